using System.Formats.Asn1;
using System.Security.Cryptography;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Revocation;

/// <summary>Which certificate a question is about (CertID, RFC 6960 section 4.1.1). Answers repeat it byte for byte.</summary>
/// <param name="HashOid">SHA-1 or SHA-256 in what we write; any in what we read.</param>
/// <param name="Der">The structure as it came.</param>
public sealed record OcspCertId(
    string HashOid,
    ReadOnlyMemory<byte> IssuerNameHash,
    ReadOnlyMemory<byte> IssuerKeyHash,
    SerialNumber Serial,
    ReadOnlyMemory<byte> Der
)
{
    /// <summary>Writes the identifier of a certificate.</summary>
    /// <param name="sha256">Otherwise SHA-1, which is what most clients ask with: a lookup key here, not a protection.</param>
    public static OcspCertId Of(X509 issuer, SerialNumber serial, bool sha256)
    {
        var (oid, name, key) = (
            sha256 ? Oids.Sha256 : Oids.Sha1,
            Hash(sha256, issuer.Subject.Der.Span),
            Hash(sha256, issuer.PublicKey.KeyBits.Span)
        );
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
        {
            using (w.PushSequence())
            {
                w.WriteObjectIdentifier(oid);
                w.WriteNull();
            }
            w.WriteOctetString(name);
            w.WriteOctetString(key);
            w.WriteInteger(serial.ToBytes());
        }
        return new(oid, name, key, serial, w.Encode());
    }

    internal static OcspCertId Read(AsnReader from)
    {
        var der = from.PeekEncodedValue();
        var r = from.ReadSequence();
        var algorithm = r.ReadSequence();
        var oid = algorithm.ReadObjectIdentifier();
        var (name, key) = (r.ReadOctetString(), r.ReadOctetString());
        var serial = r.ReadIntegerBytes();
        r.ThrowIfNotEmpty();
        if (name.Length > 64 || key.Length > 64 || serial.Length > 64)
            throw new AsnContentException("A certificate identifier that is too long.");
        return new(oid, name, key, SerialNumber.FromBytes(serial.Span), der);
    }

    /// <summary>Whether the question names this issuer: the hash of its name and the hash of its key.</summary>
    public bool IsOf(OcspIssuer issuer) =>
        HashOid switch
        {
            Oids.Sha1 => IssuerKeyHash.Span.SequenceEqual(issuer.Sha1Key) && IssuerNameHash.Span.SequenceEqual(issuer.Sha1Name),
            Oids.Sha256 => IssuerKeyHash.Span.SequenceEqual(issuer.Sha256Key) && IssuerNameHash.Span.SequenceEqual(issuer.Sha256Name),
            _ => false,
        };

    internal static byte[] Hash(bool sha256, ReadOnlySpan<byte> of)
    {
#pragma warning disable CA5350 // the identifier's hash, chosen by the one who asks
        return sha256 ? SHA256.HashData(of) : SHA1.HashData(of);
#pragma warning restore CA5350
    }
}

/// <summary>An issuer's hashes, worked out once.</summary>
public sealed class OcspIssuer(X509 certificate)
{
    public X509 Certificate { get; } = certificate;
    internal byte[] Sha1Name { get; } = OcspCertId.Hash(false, certificate.Subject.Der.Span);
    internal byte[] Sha1Key { get; } = OcspCertId.Hash(false, certificate.PublicKey.KeyBits.Span);
    internal byte[] Sha256Name { get; } = OcspCertId.Hash(true, certificate.Subject.Der.Span);
    internal byte[] Sha256Key { get; } = OcspCertId.Hash(true, certificate.PublicKey.KeyBits.Span);
}

/// <summary>A question about one or more certificates (RFC 6960 section 4.1). Signatures on it are not looked at: anybody may ask.</summary>
public sealed class OcspRequest
{
    /// <summary>Larger requests are refused; an ordinary one has about 80 bytes.</summary>
    public const int MostBytes = 16 << 10;

    /// <summary>Requests that ask about more certificates are refused.</summary>
    public const int MostQuestions = 64;

    private OcspRequest(IReadOnlyList<OcspCertId> questions, ReadOnlyMemory<byte>? nonce) => (Questions, Nonce) = (questions, nonce);

    public IReadOnlyList<OcspCertId> Questions { get; }

    /// <summary>1 to 128 octets (RFC 9654 section 2.1), or null.</summary>
    public ReadOnlyMemory<byte>? Nonce { get; }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.OcspMalformed"/>.</exception>
    public static OcspRequest Read(ReadOnlyMemory<byte> der)
    {
        if (der.Length > MostBytes)
            throw Bad($"it has {der.Length} bytes; {MostBytes} are the most that is read");
        try
        {
            return ReadStrict(der);
        }
        catch (Exception e) when (e is AsnContentException or ArgumentException or OverflowException or FormatException)
        {
            throw Bad(e.Message, e);
        }
    }

    private static OcspRequest ReadStrict(ReadOnlyMemory<byte> der)
    {
        var outer = new AsnReader(der, AsnEncodingRules.DER);
        var whole = outer.ReadSequence();
        outer.ThrowIfNotEmpty();
        var tbs = whole.ReadSequence();
        // [0] version, [1] who asks: both may stand before the questions.
        if (Is(tbs, 0))
        {
            if (tbs.ReadSequence(Tag(0)).ReadInteger() != 0)
                throw new AsnContentException("only version 1 is known");
        }
        if (Is(tbs, 1))
            tbs.ReadEncodedValue();
        var list = tbs.ReadSequence();
        var questions = new List<OcspCertId>();
        while (list.HasData)
        {
            if (questions.Count == MostQuestions)
                throw new AsnContentException($"over {MostQuestions} questions");
            var one = list.ReadSequence();
            questions.Add(OcspCertId.Read(one));
            if (Is(one, 0))
                foreach (var e in Extensions.ReadAll(one.ReadSequence(Tag(0)).ReadEncodedValue()))
                    Known(e);
            one.ThrowIfNotEmpty();
        }
        if (questions.Count == 0)
            throw new AsnContentException("it asks about no certificate");
        ReadOnlyMemory<byte>? nonce = null;
        if (Is(tbs, 2))
            foreach (var e in Extensions.ReadAll(tbs.ReadSequence(Tag(2)).ReadEncodedValue()))
                if (e.Oid == Oids.OcspNonce)
                {
                    if (nonce is not null)
                        throw new AsnContentException("two nonces");
                    nonce = ReadNonce(e.Value);
                }
                else
                    Known(e);
        tbs.ThrowIfNotEmpty();
        if (Is(whole, 0))
            whole.ReadEncodedValue();
        whole.ThrowIfNotEmpty();
        return new(questions, nonce);
    }

    /// <summary>Writes an unsigned request.</summary>
    /// <param name="nonce">1 to 128 octets; empty leaves it out. 32 are advised (RFC 9654 section 2.1).</param>
    public static byte[] Write(IReadOnlyList<OcspCertId> questions, ReadOnlySpan<byte> nonce)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
        using (w.PushSequence())
        {
            using (w.PushSequence())
                foreach (var q in questions)
                    using (w.PushSequence())
                        w.WriteEncodedValue(q.Der.Span);
            if (!nonce.IsEmpty)
                using (w.PushSequence(Tag(2)))
                using (w.PushSequence())
                    Extensions.Write(w, Oids.OcspNonce, false, WriteNonce(nonce));
        }
        return w.Encode();
    }

    internal static byte[] WriteNonce(ReadOnlySpan<byte> nonce)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        w.WriteOctetString(nonce);
        return w.Encode();
    }

    internal static ReadOnlyMemory<byte> ReadNonce(ReadOnlyMemory<byte> value)
    {
        var r = new AsnReader(value, AsnEncodingRules.DER);
        var nonce = r.ReadOctetString();
        r.ThrowIfNotEmpty();
        return nonce.Length is >= 1 and <= 128 ? nonce : throw new AsnContentException("a nonce has 1 to 128 octets");
    }

    private static void Known(RawExtension e)
    {
        if (e.Critical)
            throw new AsnContentException($"the critical extension {e.Oid} is not known");
    }

    internal static Asn1Tag Tag(int n) => new(TagClass.ContextSpecific, n, true);

    internal static bool Is(AsnReader r, int n) => r.HasData && r.PeekTag().HasSameClassAndValue(Tag(n));

    private static BeaconProblem Bad(string what, Exception? inner = null) =>
        new(
            ProblemCode.OcspMalformed,
            $"This is not a request for a certificate's status that can be answered: {what}.",
            "Send an OCSPRequest (RFC 6960 section 4.1) in DER.",
            inner
        );
}
