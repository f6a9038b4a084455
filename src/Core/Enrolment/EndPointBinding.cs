using System.Runtime.InteropServices;
using System.Security.Authentication.ExtendedProtection;
using System.Security.Cryptography;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;

namespace OrderlyBeacon.Core.Enrolment;

/// <summary>
/// Ties a Kerberos ticket to the TLS connection that it is sent over: the channel binding <c>tls-server-end-point</c> (RFC 5929 section 4), a hash of the server's certificate,
/// in the layout that the platform expects of a <see cref="ChannelBinding"/>: eight 32-bit words, of which the seventh and eighth are the data's length and place, then the data.
/// A ticket that somebody in between took over a connection of his own fits none of the service's.
/// </summary>
public sealed class EndPointBinding : ChannelBinding
{
    private const int HeaderBytes = 32;
    private readonly int _size;

    /// <param name="certificate">The server's certificate, DER.</param>
    public EndPointBinding(ReadOnlyMemory<byte> certificate)
        : base(ownsHandle: true)
    {
        byte[] data = [.. "tls-server-end-point:"u8, .. HashOf(certificate)];
        _size = HeaderBytes + data.Length;
        var memory = Marshal.AllocHGlobal(_size);
        for (var i = 0; i < HeaderBytes; i += sizeof(int))
            Marshal.WriteInt32(memory, i, 0);
        Marshal.WriteInt32(memory, 24, data.Length);
        Marshal.WriteInt32(memory, 28, HeaderBytes);
        Marshal.Copy(data, 0, memory + HeaderBytes, data.Length);
        SetHandle(memory);
    }

    // The hash of the certificate's own signature; SHA-256 where that is MD5 or SHA-1.
    private static byte[] HashOf(ReadOnlyMemory<byte> certificate) =>
        X509.Read(certificate).Scheme switch
        {
            SignatureScheme.Sha384Rsa or SignatureScheme.Sha384Ecdsa or SignatureScheme.Sha384Pss => SHA384.HashData(certificate.Span),
            SignatureScheme.Sha512Rsa or SignatureScheme.Sha512Ecdsa or SignatureScheme.Sha512Pss => SHA512.HashData(certificate.Span),
            _ => SHA256.HashData(certificate.Span),
        };

    public override int Size => _size;

    protected override bool ReleaseHandle()
    {
        Marshal.FreeHGlobal(handle);
        return true;
    }
}
