namespace OrderlyBeacon.Contracts;

public sealed record Revocation(string Reason, string? Serial);

public sealed record HoldRelease(string? Serial);

/// <summary>Which editions to revoke: some serials, or all of a host, or all of one profile revision. Without <paramref name="Count"/> it is a preview.</summary>
/// <param name="Count">How many editions the caller expects to be meant; with another number nothing is done.</param>
public sealed record RevocationWish(
    string Reason,
    IReadOnlyList<string>? Serials,
    string? Host,
    string? Profile,
    int? Revision,
    int? Count
);

public sealed record RevocationItem(string Certificate, string Serial, DateTimeOffset NotAfter, EditionState State);

public sealed record RevocationOutcome(bool Done, int Count, IReadOnlyList<RevocationItem> Items, string? Crl);

/// <summary>What was published.</summary>
public sealed record CrlIssued(string Told);
