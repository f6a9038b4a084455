using System.Text.Json;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Federation;

/// <summary>A provider of a federation, as its agent last described it, and how far it is with its next signing certificate.</summary>
public sealed class Provider
{
    public int Id { get; private init; }
    public int HostId { get; private init; }
    public string Instance { get; private init; } = "";
    public string Entity { get; private init; } = "";
    public string Metadata { get; private set; } = "";
    public string Place { get; private set; } = "";
    public string? SignsJson { get; private set; }
    public string? AlsoJson { get; private set; }

    /// <summary>When that which it signs with expires.</summary>
    public DateTimeOffset? SignsUntil { get; private set; }
    public int AssertionSeconds { get; private set; }
    public DateTimeOffset? Since { get; private set; }
    public string StrangersJson { get; private set; } = "[]";
    public string? NotCounted { get; private set; }
    public string? ProblemJson { get; private set; }

    /// <summary>The certificate of ours whose editions it signs with.</summary>
    public int? CertificateId { get; private set; }
    public FederationStep Step { get; private set; }
    public DateTimeOffset? SwitchedAt { get; private set; }
    public long? OrderId { get; private set; }

    /// <summary>An order has ended, and the agent has not said since how it is.</summary>
    public bool IsStale { get; private set; }
    public string? FailureJson { get; private set; }
    public int Failures { get; private set; }

    /// <summary>When a step that failed is tried again; null when somebody has to look first.</summary>
    public DateTimeOffset? RetryAt { get; private set; }
    public bool IsFailed { get; private set; }

    /// <summary>Somebody took a step back.</summary>
    public bool IsHeld { get; private set; }

    /// <summary>It goes on then whoever has not learnt of it, by a person's word.</summary>
    public DateTimeOffset? GoOnAt { get; private set; }

    public static Provider Of(int hostId, FoundProvider f) =>
        new()
        {
            HostId = hostId,
            Instance = f.Instance,
            Entity = f.Entity,
        };

    public SigningCertificate? Signs => Read(SignsJson);
    public SigningCertificate? Also => Read(AlsoJson);

    private static SigningCertificate? Read(string? json) =>
        json is null ? null : JsonSerializer.Deserialize(json, BeaconJson.Default.SigningCertificate);

    private static string? Json(SigningCertificate? c) =>
        c is null ? null : JsonSerializer.Serialize(c, BeaconJson.Default.SigningCertificate);

    public IReadOnlyList<MetadataFetch> Strangers => JsonSerializer.Deserialize(StrangersJson, BeaconJson.Default.ListMetadataFetch)!;

    /// <returns>Whether partners have to learn anew: another set of certificates is published.</returns>
    public bool Described(FoundProvider f)
    {
        var isSame = SetOf(Signs, Also) == SetOf(f.Signs, f.Also);
        if (Signs?.Thumbprint != f.Signs?.Thumbprint)
            SwitchedAt = null;
        (Metadata, Place, SignsJson, AlsoJson, SignsUntil) = (f.Metadata, f.Place, Json(f.Signs), Json(f.Also), f.Signs?.NotAfter);
        (AssertionSeconds, Since, NotCounted, IsStale) = (Math.Clamp(f.AssertionSeconds, 1, LongestLife), f.Since, f.NotCounted, false);
        IsTroubled(f.Problem);
        if (!isSame)
            GoOnAt = null;
        return !isSame;
    }

    private const int LongestLife = 7 * 24 * 3600;

    private static string SetOf(SigningCertificate? one, SigningCertificate? two) =>
        string.Join(' ', new[] { one?.Thumbprint, two?.Thumbprint }.Order(StringComparer.Ordinal));

    public void IsTroubled(ProblemInfo? problem) =>
        ProblemJson = problem is null ? null : JsonSerializer.Serialize(problem, BeaconJson.Default.ProblemInfo);

    public void FetchedBy(IReadOnlyList<MetadataFetch> strangers) =>
        StrangersJson = JsonSerializer.Serialize([.. strangers], BeaconJson.Default.ListMetadataFetch);

    public void SignWith(int? certificateId) => (CertificateId, IsHeld, GoOnAt) = (certificateId, false, null);

    public void Stands(FederationStep step) => Step = step;

    public void Ordered(FederationStep step, long order) => (Step, OrderId) = (step, order);

    public void Switched(DateTimeOffset at) => SwitchedAt ??= at;

    public void Did() => (OrderId, IsStale, FailureJson, Failures, RetryAt, IsFailed) = (null, true, null, 0, null, false);

    public void Failed(ProblemInfo problem, DateTimeOffset? retryAt) =>
        (OrderId, IsStale, FailureJson, Failures, RetryAt, IsFailed) = (
            null,
            true,
            JsonSerializer.Serialize(problem, BeaconJson.Default.ProblemInfo),
            Failures + 1,
            retryAt,
            true
        );

    public void Hold() => (IsHeld, GoOnAt) = (true, null);

    public void GoOn(DateTimeOffset? at) => (IsHeld, GoOnAt) = (false, at);

    /// <summary>Its order was cancelled, or is not there any more.</summary>
    public void OrderIsGone() => OrderId = null;

    /// <summary>Somebody has looked: what failed is tried again.</summary>
    public void TryAgain() => (FailureJson, RetryAt, IsFailed) = (null, null, false);
}

/// <summary>Somebody who takes a provider's word, and has to know its certificates.</summary>
public sealed class Partner
{
    public int Id { get; private init; }
    public int ProviderId { get; private init; }
    public string Entity { get; private init; } = "";
    public string AddressesJson { get; private set; } = "[]";
    public DateTimeOffset? FetchedAt { get; private set; }
    public string? WordBy { get; private set; }
    public DateTimeOffset? WordAt { get; private set; }
    public string? Word { get; private set; }

    public static Partner Of(int providerId, string entity) => new() { ProviderId = providerId, Entity = entity };

    public IReadOnlyList<string> Addresses => Shapes.Strings(AddressesJson);

    public void ComesFrom(IReadOnlyList<string> addresses) => (AddressesJson, FetchedAt) = (Shapes.Json(addresses), null);

    public void Fetched(DateTimeOffset at) => FetchedAt = at;

    public void Said(string by, string word, DateTimeOffset at) => (WordBy, Word, WordAt) = (by, word, at);

    /// <summary>Something else is published: what it knew is of no account.</summary>
    public void KnowsNothing() => (FetchedAt, WordBy, WordAt, Word) = (null, null, null, null);

    public PartnerInfo Info => new(Entity, Addresses, FetchedAt, WordBy, WordAt, Word);
}
