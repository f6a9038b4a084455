using System.Formats.Asn1;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Revocation;

/// <summary>A certificate's state in an answer (RFC 6960 section 2.2).</summary>
public enum OcspStatus
{
    /// <summary>Issued, and not revoked.</summary>
    Good = 0,
    Revoked = 1,

    /// <summary>The responder knows no such certificate.</summary>
    Unknown = 2,
}

/// <summary>Why there is no answer (RFC 6960 section 4.2.1), by the numbers there.</summary>
public enum OcspRefusal
{
    MalformedRequest = 1,
    InternalError = 2,
    TryLater = 3,

    /// <summary>The responder does not answer for this issuer (RFC 5019 section 2.2.3).</summary>
    Unauthorized = 6,
}

/// <summary>The state of one certificate.</summary>
/// <param name="Revocation">Set when revoked.</param>
public sealed record OcspAnswer(
    OcspCertId Id,
    OcspStatus Status,
    RevokedCertificate? Revocation,
    DateTimeOffset ThisUpdate,
    DateTimeOffset? NextUpdate
);

/// <summary>An answer: written and signed by a responder, read by who asked (RFC 6960 section 4.2).</summary>
public sealed class OcspResponse
{
    private ReadOnlyMemory<byte> _tbs,
        _signature;
    private SignatureScheme _scheme;

    /// <summary>Larger answers are refused.</summary>
    public const int MostBytes = 128 << 10;

    /// <summary>Set when the responder refused; nothing else is then.</summary>
    public OcspRefusal? Refusal { get; private init; }
    public IReadOnlyList<OcspAnswer> Answers { get; private init; } = [];
    public DateTimeOffset ProducedAt { get; private init; }
    public ReadOnlyMemory<byte>? Nonce { get; private init; }

    /// <summary>What came with it: a delegated responder's certificate first.</summary>
    public IReadOnlyList<X509> Certificates { get; private init; } = [];

    public bool SignedBy(PublicKeyInfo key) => Refusal is null && Signatures.Verify(key, _scheme, _tbs.Span, _signature.Span);

    /// <summary>Why the answer must not be relied on for certificates of this issuer, or null when it may (RFC 6960 section 3.2).</summary>
    public string? Objection(X509 issuer, DateTimeOffset now)
    {
        if (Refusal is { } r)
            return $"The responder gave no answer: {r}.";
        if (!SignedBy(issuer.PublicKey))
        {
            if (Certificates.FirstOrDefault(c => SignedBy(c.PublicKey)) is not { } responder)
                return "Neither the issuer nor a certificate in the answer signed it.";
            if (!responder.SignedBy(issuer.PublicKey))
                return $"The responder's certificate ({responder.Subject}) is not from this issuer's key: it may be of another generation.";
            if (responder.ExtendedKeyUsage?.Contains(Oids.OcspSigning) != true)
                return $"The responder's certificate ({responder.Subject}) is not for signing OCSP answers.";
            if (now < responder.NotBefore || now > responder.NotAfter)
                return $"The responder's certificate was good from {responder.NotBefore:u} to {responder.NotAfter:u} only.";
        }
        foreach (var a in Answers)
        {
            if (a.ThisUpdate > now + TimeSpan.FromMinutes(5))
                return $"The answer is of {a.ThisUpdate:u}, which is still to come: a clock is wrong.";
            if (a.NextUpdate < now)
                return $"The answer was good until {a.NextUpdate:u} only.";
        }
        return null;
    }

    /// <summary>Writes and signs an answer; the responder is named by its key (section 4.2.1).</summary>
    /// <param name="responder">The delegated responder's certificate in DER, sent along.</param>
    /// <param name="nonce">As asked; empty leaves it out.</param>
    public static byte[] Write(
        IReadOnlyList<OcspAnswer> answers,
        DateTimeOffset producedAt,
        ReadOnlySpan<byte> nonce,
        ReadOnlySpan<byte> responderKeyIdentifier,
        ReadOnlySpan<byte> responder,
        ISigner signer
    )
    {
        var w = new BackwardDer(256 + 200 * answers.Count);
        if (!nonce.IsEmpty)
        {
            // OCTET STRING in the extension's OCTET STRING, its identifier before it; Extension, Extensions, [1].
            w.Raw(nonce);
            foreach (var tag in (ReadOnlySpan<byte>)[0x04, 0x04])
                w.Close(tag, 0);
            w.Raw([0x06, 0x09, 0x2B, 0x06, 0x01, 0x05, 0x05, 0x07, 0x30, 0x01, 0x02]);
            foreach (var tag in (ReadOnlySpan<byte>)[0x30, 0x30, 0xA1])
                w.Close(tag, 0);
        }
        var mark = w.Length;
        for (var i = answers.Count - 1; i >= 0; i--)
            WriteOne(w, answers[i]);
        w.Close(0x30, mark);
        w.Time(producedAt);
        mark = w.Length;
        w.Raw(responderKeyIdentifier);
        w.Close(0x04, mark);
        w.Close(0xA2, mark);
        w.Close(0x30, 0);
        var signature = signer.Sign(w.Written);

        var whole = new BackwardDer(w.Length + signature.Length + responder.Length + 128);
        if (!responder.IsEmpty)
        {
            whole.Raw(responder);
            whole.Close(0x30, 0);
            whole.Close(0xA0, 0);
        }
        mark = whole.Length;
        whole.Raw(signature);
        whole.Raw([0]);
        whole.Close(0x03, mark);
        whole.Raw(Signatures.AlgorithmOf(signer.Scheme));
        whole.Raw(w.Written);
        // BasicOCSPResponse, as OCTET STRING behind its identifier; ResponseBytes, [0].
        whole.Close(0x30, 0);
        whole.Close(0x04, 0);
        whole.Raw([0x06, 0x09, 0x2B, 0x06, 0x01, 0x05, 0x05, 0x07, 0x30, 0x01, 0x01]);
        whole.Close(0x30, 0);
        whole.Close(0xA0, 0);
        whole.Raw([0x0A, 0x01, 0x00]);
        whole.Close(0x30, 0);
        return whole.Written.ToArray();
    }

    /// <summary>An unsigned refusal.</summary>
    public static byte[] Refuse(OcspRefusal why) => [0x30, 0x03, 0x0A, 0x01, (byte)why];

    private static void WriteOne(BackwardDer w, OcspAnswer a)
    {
        var one = w.Length;
        if (a.NextUpdate is { } next)
        {
            w.Time(next);
            w.Close(0xA0, one);
        }
        w.Time(a.ThisUpdate);
        var status = w.Length;
        if (a.Status == OcspStatus.Revoked)
        {
            if (a.Revocation!.Reason != RevocationReason.Unspecified)
            {
                w.Raw([0x0A, 0x01, (byte)a.Revocation.Reason]);
                w.Close(0xA0, status);
            }
            w.Time(a.Revocation.At);
        }
        w.Close(
            a.Status switch
            {
                OcspStatus.Good => 0x80,
                OcspStatus.Revoked => 0xA1,
                _ => 0x82,
            },
            status
        );
        w.Raw(a.Id.Der.Span);
        w.Close(0x30, one);
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.OcspMalformed"/>.</exception>
    public static OcspResponse Read(ReadOnlyMemory<byte> der)
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

    private static OcspResponse ReadStrict(ReadOnlyMemory<byte> der)
    {
        var outer = new AsnReader(der, AsnEncodingRules.DER);
        var whole = outer.ReadSequence();
        outer.ThrowIfNotEmpty();
        var status = (int)whole.ReadEnumeratedValue<Successful>();
        if (status != 0)
            return new() { Refusal = (OcspRefusal)status };
        var typed = whole.ReadSequence(OcspRequest.Tag(0)).ReadSequence();
        if (typed.ReadObjectIdentifier() != Oids.OcspBasic)
            throw new AsnContentException("not a basic answer");
        var basic = new AsnReader(typed.ReadOctetString(), AsnEncodingRules.DER).ReadSequence();
        var tbs = basic.ReadEncodedValue();
        var scheme = Signatures.ReadAlgorithm(basic);
        var signature = basic.ReadBitString(out _);
        var certificates = new List<X509>();
        if (OcspRequest.Is(basic, 0))
        {
            var list = basic.ReadSequence(OcspRequest.Tag(0)).ReadSequence();
            while (list.HasData && certificates.Count < 10)
                certificates.Add(X509.Read(list.ReadEncodedValue()));
        }

        var data = new AsnReader(tbs, AsnEncodingRules.DER).ReadSequence();
        if (OcspRequest.Is(data, 0))
            data.ReadEncodedValue();
        data.ReadEncodedValue();
        var produced = data.ReadGeneralizedTime();
        var answers = new List<OcspAnswer>();
        var all = data.ReadSequence();
        while (all.HasData)
            answers.Add(ReadOne(all.ReadSequence()));
        ReadOnlyMemory<byte>? nonce = null;
        if (OcspRequest.Is(data, 1))
            foreach (var e in Extensions.ReadAll(data.ReadSequence(OcspRequest.Tag(1)).ReadEncodedValue()))
                if (e.Oid == Oids.OcspNonce)
                    nonce = OcspRequest.ReadNonce(e.Value);
        return new()
        {
            Answers = answers,
            ProducedAt = produced,
            Nonce = nonce,
            Certificates = certificates,
            _tbs = tbs,
            _scheme = scheme,
            _signature = signature,
        };
    }

    private static OcspAnswer ReadOne(AsnReader r)
    {
        var id = OcspCertId.Read(r);
        var tag = r.PeekTag();
        RevokedCertificate? revocation = null;
        var status = OcspStatus.Unknown;
        if (tag is { TagClass: TagClass.ContextSpecific, TagValue: 0 })
        {
            r.ReadNull(tag);
            status = OcspStatus.Good;
        }
        else if (tag is { TagClass: TagClass.ContextSpecific, TagValue: 1 })
        {
            var info = r.ReadSequence(tag);
            var at = info.ReadGeneralizedTime();
            var reason = OcspRequest.Is(info, 0)
                ? info.ReadSequence(OcspRequest.Tag(0)).ReadEnumeratedValue<RevocationReason>()
                : RevocationReason.Unspecified;
            (status, revocation) = (OcspStatus.Revoked, new(id.Serial, at, reason));
        }
        else
            r.ReadEncodedValue();
        var from = r.ReadGeneralizedTime();
        DateTimeOffset? to = OcspRequest.Is(r, 0) ? r.ReadSequence(OcspRequest.Tag(0)).ReadGeneralizedTime() : null;
        return new(id, status, revocation, from, to);
    }

    private static BeaconProblem Bad(string what, Exception? inner = null) =>
        new(
            ProblemCode.OcspMalformed,
            $"This is not an answer about a certificate's status: {what}.",
            "Look at what the address really serves; it may be another service.",
            inner
        );

    private enum Successful
    {
        Successful = 0,
    }
}
