using System.Buffers.Binary;

namespace OrderlyBeacon.Core.Handshakes;

/// <summary>Versions of TLS, by the number that stands for each on the wire (RFC 2246, 4346, 5246, 8446).</summary>
public enum TlsVersion
{
    Tls10 = 0x0301,
    Tls11 = 0x0302,
    Tls12 = 0x0303,
    Tls13 = 0x0304,
}

/// <summary>What a server made of a greeting.</summary>
public enum TlsReply
{
    /// <summary>It goes on in that version.</summary>
    Taken,

    /// <summary>It refuses, or would go on in another version.</summary>
    Refused,

    /// <summary>What came is not the begin of a handshake.</summary>
    NotUnderstood,
}

/// <summary>
/// Asks a server whether it takes one version of TLS: the first message of a handshake that offers that version alone, and the reading of what comes back. The platform's own
/// handshakes are no help here: they leave out what is too old for them. No handshake is ended this way, and nothing secret is made.
/// </summary>
public static class TlsGreeting
{
    public const int RandomBytes = 32;

    /// <summary>Bytes in front of each record: type, version and length (RFC 5246, section 6.2.1).</summary>
    public const int RecordHeader = 5;

    /// <summary>A record is no longer than this (RFC 5246, section 6.2.3).</summary>
    public const int MostRecord = (1 << 14) + 2048;

    private const byte Handshake = 22,
        Alert = 21,
        ClientHello = 1,
        ServerHello = 2;
    private const ushort ServerName = 0,
        StatusRequest = 5,
        Groups = 10,
        PointFormats = 11,
        Signatures = 13,
        Versions = 43,
        KeyShare = 51;

    // Those of all ages that servers of each version have, strong ones first: what is asked is the version.
    private static readonly ushort[] Suites =
    [
        0xC02B,
        0xC02F,
        0xC02C,
        0xC030,
        0xCCA9,
        0xCCA8,
        0xC009,
        0xC013,
        0xC00A,
        0xC014,
        0x009E,
        0x009F,
        0x0033,
        0x0039,
        0x009C,
        0x009D,
        0x003C,
        0x002F,
        0x0035,
        0x000A,
    ];
    private static readonly ushort[] SuitesOf13 = [0x1301, 0x1302, 0x1303];
    private static readonly ushort[] KnownGroups = [0x001D, 0x0017, 0x0018, 0x0019];
    private static readonly ushort[] KnownSignatures =
    [
        0x0403,
        0x0503,
        0x0603,
        0x0807,
        0x0804,
        0x0805,
        0x0806,
        0x0401,
        0x0501,
        0x0601,
        0x0203,
        0x0201,
    ];

    /// <summary>A record with a ClientHello (RFC 8446, section 4.1.2).</summary>
    /// <param name="host">The server name; null, or an address, sends none (RFC 6066, section 3).</param>
    /// <param name="random"><see cref="RandomBytes"/> bytes.</param>
    /// <param name="asksStatus">Whether an answer about the certificate's revocation is asked for (RFC 6066, section 8).</param>
    public static byte[] Write(TlsVersion version, string? host, ReadOnlySpan<byte> random, bool asksStatus = false)
    {
        if (random.Length != RandomBytes)
            throw new ArgumentException($"{RandomBytes} bytes", nameof(random));
        var body = new Bytes();
        // 1.3 calls itself 1.2 here, for those between who know no other.
        body.Two((ushort)(version == TlsVersion.Tls13 ? TlsVersion.Tls12 : version));
        body.All(random);
        body.One(0);
        body.Sized2(b =>
        {
            foreach (var s in version == TlsVersion.Tls13 ? SuitesOf13 : Suites)
                b.Two(s);
        });
        body.One(1);
        body.One(0);
        body.Sized2(b => Extensions(b, version, host, asksStatus));
        var message = new Bytes();
        message.One(Handshake);
        message.Two((ushort)TlsVersion.Tls10);
        message.Sized2(r =>
        {
            r.One(ClientHello);
            r.One(0);
            r.Sized2(b => b.All(body.Written));
        });
        return message.Written.ToArray();
    }

    private static void Extensions(Bytes to, TlsVersion version, string? host, bool asksStatus)
    {
        if (host is not null && !System.Net.IPAddress.TryParse(host, out _))
            Extension(
                to,
                ServerName,
                e =>
                    e.Sized2(list =>
                    {
                        list.One(0);
                        list.Sized2(n => n.All(System.Text.Encoding.ASCII.GetBytes(host)));
                    })
            );
        // By OCSP; of any responder, and with no extensions.
        if (asksStatus)
            Extension(to, StatusRequest, e => e.All([1, 0, 0, 0, 0]));
        Extension(to, Groups, e => List(e, KnownGroups));
        Extension(to, PointFormats, e => e.All([1, 0]));
        if (version >= TlsVersion.Tls12)
            Extension(to, Signatures, e => List(e, KnownSignatures));
        if (version != TlsVersion.Tls13)
            return;
        Extension(to, Versions, e => e.All([2, 3, 4]));
        // No share of a key: the server asks for one, in that version (section 4.2.8).
        Extension(to, KeyShare, e => e.Two(0));
    }

    private static void Extension(Bytes to, ushort kind, Action<Bytes> content)
    {
        to.Two(kind);
        to.Sized2(content);
    }

    private static void List(Bytes to, ushort[] values) =>
        to.Sized2(b =>
        {
            foreach (var v in values)
                b.Two(v);
        });

    /// <summary>How long the record is that begins so.</summary>
    /// <param name="header"><see cref="RecordHeader"/> bytes.</param>
    /// <returns>Null when this is no record of a handshake's begin.</returns>
    public static int? LengthOf(ReadOnlySpan<byte> header) =>
        header.Length >= RecordHeader
        && header[0] is Handshake or Alert
        && header[1] == 3
        && BinaryPrimitives.ReadUInt16BigEndian(header[3..]) is > 0 and <= MostRecord and var length
            ? length
            : null;

    /// <summary>Reads the server's first record.</summary>
    /// <param name="asked">The version that was offered.</param>
    /// <param name="record">With its header; more may follow.</param>
    public static TlsReply Read(TlsVersion asked, ReadOnlySpan<byte> record)
    {
        if (LengthOf(record) is not { } length || record.Length < RecordHeader + length)
            return TlsReply.NotUnderstood;
        var content = record.Slice(RecordHeader, length);
        if (record[0] == Alert)
            return TlsReply.Refused;
        // Type, length of three bytes, version, random, session.
        const int Fixed = 4 + 2 + RandomBytes;
        if (content.Length <= Fixed || content[0] != ServerHello)
            return TlsReply.NotUnderstood;
        var chosen = BinaryPrimitives.ReadUInt16BigEndian(content[4..]);
        if (asked != TlsVersion.Tls13)
            return chosen == (ushort)asked ? TlsReply.Taken : TlsReply.Refused;
        return Selected(content[Fixed..]) == (ushort)TlsVersion.Tls13 ? TlsReply.Taken : TlsReply.Refused;
    }

    /// <summary>The version that an extension says (section 4.2.1); null when there is none.</summary>
    /// <param name="rest">From the session's length on.</param>
    private static ushort? Selected(ReadOnlySpan<byte> rest)
    {
        // Session, suite of two bytes, compression, length of the extensions.
        var at = 1 + rest[0] + 2 + 1 + 2;
        while (at + 4 <= rest.Length)
        {
            var kind = BinaryPrimitives.ReadUInt16BigEndian(rest[at..]);
            var size = BinaryPrimitives.ReadUInt16BigEndian(rest[(at + 2)..]);
            if (at + 4 + size > rest.Length)
                return null;
            if (kind == Versions && size == 2)
                return BinaryPrimitives.ReadUInt16BigEndian(rest[(at + 4)..]);
            at += 4 + size;
        }
        return null;
    }

    /// <summary>Bytes in the order of the network.</summary>
    private sealed class Bytes
    {
        private readonly List<byte> _bytes = [];

        public ReadOnlySpan<byte> Written => System.Runtime.InteropServices.CollectionsMarshal.AsSpan(_bytes);

        public void One(byte value) => _bytes.Add(value);

        public void Two(ushort value)
        {
            _bytes.Add((byte)(value >> 8));
            _bytes.Add((byte)value);
        }

        public void All(ReadOnlySpan<byte> values) => _bytes.AddRange(values);

        /// <summary>What has its length in two bytes in front.</summary>
        public void Sized2(Action<Bytes> content)
        {
            var inner = new Bytes();
            content(inner);
            Two(checked((ushort)inner._bytes.Count));
            _bytes.AddRange(inner._bytes);
        }
    }
}
