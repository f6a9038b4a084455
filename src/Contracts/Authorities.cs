namespace OrderlyBeacon.Contracts;

/// <param name="State"><c>in-use</c>, <c>published</c> (not issuing yet), <c>past</c> or <c>withdrawn</c>.</param>
/// <param name="KeyNumber">Generations with the same key share it, and with it lists and responder.</param>
public sealed record GenerationInfo(
    int Number,
    string Subject,
    string Issuer,
    string Serial,
    string Thumbprint,
    DateTimeOffset NotBefore,
    DateTimeOffset NotAfter,
    string Key,
    string CertificateAt,
    string State,
    int KeyNumber
);

public sealed record CrlInfo(long Number, DateTimeOffset ThisUpdate, DateTimeOffset NextUpdate, int Revoked, string At, long? BaseNumber);

/// <summary>Where and under which certificate OCSP questions are answered.</summary>
public sealed record ResponderInfo(string At, string Serial, DateTimeOffset NotAfter);

public sealed record AuthorityInfo(
    string Id,
    string Name,
    string Kind,
    string KeyState,
    IReadOnlyList<GenerationInfo> Generations,
    CrlInfo? Crl,
    CrlInfo? Delta,
    ResponderInfo? Responder,
    long Editions,
    string Pem,
    string? WaitsFor
)
{
    /// <summary>Keys of past generations, with what is still published for them.</summary>
    public IReadOnlyList<KeyInfo> OtherKeys
    {
        get => field ?? [];
        init;
    }

    /// <summary>Where its request lies and what was said there; null when it is carried by hand.</summary>
    public string? WaitsAt { get; init; }
}

/// <summary>A key that has a list of its own, besides the one that issues.</summary>
public sealed record KeyInfo(int KeyNumber, CrlInfo? Crl, CrlInfo? Delta, ResponderInfo? Responder);

/// <summary>What a renewal of an authority shall take.</summary>
/// <param name="NewKey">The kind of a new key, as <c>ec-p256</c>; null goes on with the same key.</param>
public sealed record RenewalWish(string? NewKey);

/// <summary>A parent service to bring an authority's request to, and who asks there.</summary>
/// <param name="Root">PEM of the root that is trusted for it.</param>
/// <param name="Profile">The profile there; <c>subordinate</c> when left out.</param>
public sealed record ParentWish(string Url, string Root, string Name, string Password, string? Profile, string? Life);

/// <summary>How a subordinate authority's request stands; once it is issued with the certificate and all above it, each in base64.</summary>
public sealed record SubordinateAnswer(RequestState State, string? Reason, IReadOnlyList<string> Files);

/// <summary>What a renewal would change, before anything is done.</summary>
/// <param name="Steps">What will be done, in order, and by whom.</param>
/// <param name="Chains">The chain that each generation's editions follow then.</param>
/// <param name="Points">What each address will hold.</param>
/// <param name="Lists">How revocation is published, for which key, until when.</param>
/// <param name="Hosts">Hosts whose agents do not have the newest root yet.</param>
/// <param name="Warnings">What to know before beginning.</param>
public sealed record Rehearsal(
    string Authority,
    int Generation,
    bool NewKey,
    string Key,
    IReadOnlyList<string> Steps,
    IReadOnlyList<RehearsedChain> Chains,
    IReadOnlyList<RehearsedPoint> Points,
    IReadOnlyList<string> Lists,
    IReadOnlyList<string> Hosts,
    DateTimeOffset? SideBySideUntil,
    IReadOnlyList<string> Warnings
);

public sealed record RehearsedChain(string Who, long Editions, DateTimeOffset? LastEnds, IReadOnlyList<string> Chain);

public sealed record RehearsedPoint(string At, string Holds, bool Changes);
