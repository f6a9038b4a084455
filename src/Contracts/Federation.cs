using System.Text.Json.Serialization;

namespace OrderlyBeacon.Contracts;

/// <summary>What a provider of a federation is ordered to do with an edition. Each names a state to come to, so that doing it twice changes nothing.</summary>
[JsonConverter(typeof(OpenWord<FederationAct>))]
public enum FederationAct
{
    /// <summary>Sign with the one before, and publish this one beside it.</summary>
    Publish,

    /// <summary>Sign with this one, and publish the one before beside it.</summary>
    Sign,

    /// <summary>Sign with this one, and publish it alone.</summary>
    Retire,

    /// <summary>Sign with the one before, and publish that alone.</summary>
    Withdraw,

    /// <summary>Something that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <summary>How far a provider is with its next signing certificate.</summary>
[JsonConverter(typeof(OpenWord<FederationStep>))]
public enum FederationStep
{
    /// <summary>It signs with a certificate that is not looked after.</summary>
    Unmanaged,

    /// <summary>It signs with the edition in use, and publishes it alone.</summary>
    Steady,

    /// <summary>The next one is being published.</summary>
    Publishing,

    /// <summary>The next one is published; partners have to learn of it.</summary>
    Waiting,

    /// <summary>It is being told to sign with the next one.</summary>
    Switching,

    /// <summary>It signs with the new one; the one before stays published until what it signed is gone.</summary>
    Fading,

    /// <summary>The one before is being taken out of what is published.</summary>
    Retiring,

    /// <summary>Somebody took a step back: nothing happens until somebody lets it go on.</summary>
    Held,

    /// <summary>A step that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <summary>An order about a provider. The edition is the order's certificate and serial.</summary>
/// <param name="Instance">The server, as its agent names it.</param>
/// <param name="Entity">The provider's name in the federation (SAML 2.0 Core, section 8.3.6).</param>
public sealed record FederationOrder(string Instance, string Entity, FederationAct Act);

/// <summary>A certificate that a provider signs with or publishes.</summary>
/// <param name="Thumbprint">SHA-256 over the whole certificate, lower-case hexadecimal.</param>
public sealed record SigningCertificate(string Thumbprint, string Subject, string Serial, DateTimeOffset NotAfter);

/// <summary>Somebody has fetched a provider's metadata.</summary>
/// <param name="At">The first time since what is published has changed.</param>
public sealed record MetadataFetch(string Address, DateTimeOffset At);

/// <summary>A provider as its agent found it.</summary>
/// <param name="Instance">The server, as its agent names it.</param>
/// <param name="Metadata">Where partners get its metadata.</param>
/// <param name="Place">File and line where it is configured.</param>
/// <param name="Also">What it publishes besides.</param>
/// <param name="Partners">Who takes its word, by their names in the federation.</param>
/// <param name="Problem">Why nothing can be changed there now, if so.</param>
public sealed record FoundProvider(
    string Instance,
    string Entity,
    string Metadata,
    string Place,
    SigningCertificate? Signs,
    SigningCertificate? Also,
    IReadOnlyList<string> Partners,
    ProblemInfo? Problem
)
{
    /// <summary>Seconds for which what it signs is good.</summary>
    public int AssertionSeconds { get; init; }

    /// <summary>When that which is published became what it is, as far as fetches are counted; null when they are not.</summary>
    public DateTimeOffset? Since { get; init; }

    /// <summary>Who has fetched it since.</summary>
    public IReadOnlyList<MetadataFetch> Fetches { get; init; } = [];

    /// <summary>Why nobody knows who has fetched it; null when it is known.</summary>
    public string? NotCounted { get; init; }
}

/// <summary>Somebody who takes a provider's word.</summary>
/// <param name="Addresses">Where it fetches metadata from, as a person said.</param>
/// <param name="FetchedAt">When it has fetched what is published now; null when it has not.</param>
/// <param name="WordBy">Who has said that it knows the next certificate, however it learned of it.</param>
public sealed record PartnerInfo(
    string Entity,
    IReadOnlyList<string> Addresses,
    DateTimeOffset? FetchedAt,
    string? WordBy,
    DateTimeOffset? WordAt,
    string? Word
)
{
    /// <summary>Whether it knows what is published now.</summary>
    public bool Knows => FetchedAt is not null || WordBy is not null;
}

/// <summary>A provider of a federation, with the life of its signing certificate.</summary>
/// <param name="Number">What it is called by here.</param>
/// <param name="Certificate">The certificate of ours whose editions it signs with.</param>
/// <param name="NextSerial">The edition that it shall sign with, where that is not the one that it does.</param>
/// <param name="Since">When that which is published became what it is.</param>
/// <param name="Until">When it goes on by itself; null when it waits for somebody.</param>
/// <param name="Strangers">Who has fetched it and is no partner that is known by its address.</param>
/// <param name="Breaks">What the next step would break, and for whom.</param>
/// <param name="Problem">Why it does not go on.</param>
public sealed record ProviderInfo(
    int Number,
    string Host,
    string Entity,
    string Metadata,
    string Place,
    FederationStep Step,
    Severity Severity,
    SigningCertificate? Signs,
    SigningCertificate? Also,
    string? Certificate,
    string? NextSerial,
    DateTimeOffset? Since,
    DateTimeOffset? Until,
    IReadOnlyList<PartnerInfo> Partners,
    IReadOnlyList<MetadataFetch> Strangers,
    IReadOnlyList<string> Breaks,
    ProblemInfo? Problem
)
{
    /// <summary>Whose the host is: who may change it.</summary>
    public string Owner { get; init; } = "";

    /// <summary>Why nobody knows who has fetched it; null when it is known.</summary>
    public string? NotCounted { get; init; }

    /// <summary>What happens next, in one sentence.</summary>
    public string Next { get; init; } = "";

    /// <summary>What the caller may not do with it.</summary>
    public IReadOnlyList<Denied> Denied { get; init; } = [];
}

/// <summary>Which certificate a provider shall sign with; null leaves it alone from now on.</summary>
public sealed record SigningWish(string? Certificate);

/// <summary>A person's word that a provider goes on.</summary>
/// <param name="At">Not before then; null: now.</param>
public sealed record GoOnWish(string? Reason, DateTimeOffset? At);

/// <summary>Why a step is taken back.</summary>
public sealed record BackWish(string? Reason);

/// <summary>What a person says of a partner. Null leaves it as it is.</summary>
/// <param name="Addresses">Where it fetches metadata from.</param>
/// <param name="Word">How it is known that it has the next certificate.</param>
public sealed record PartnerWish(string Entity, IReadOnlyList<string>? Addresses, string? Word);

/// <summary>Which step an order would take, to be shown before.</summary>
public sealed record FederationPlanWish(FederationAct Act);
