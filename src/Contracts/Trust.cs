using System.Text.Json.Serialization;

namespace OrderlyBeacon.Contracts;

/// <summary>What a trust store is.</summary>
[JsonConverter(typeof(OpenWord<TrustKind>))]
public enum TrustKind
{
    /// <summary>The system's bundle, made by <c>update-ca-certificates</c>: most programs.</summary>
    System,

    /// <summary>An NSS database: browsers, and programs that are built upon NSS.</summary>
    Nss,

    /// <summary>A Java keystore: programs in Java.</summary>
    Java,

    /// <summary>A PEM file of one server's, or of one kind of client's own.</summary>
    File,

    /// <summary>Something that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <summary>What can be done with an anchor in a trust store.</summary>
[JsonConverter(typeof(OpenWord<TrustAct>))]
public enum TrustAct
{
    /// <summary>Have the store trust it.</summary>
    Push,

    /// <summary>Take out what was pushed.</summary>
    Withdraw,

    /// <summary>End the trust in an anchor that the store has otherwise.</summary>
    Distrust,

    /// <summary>Take a distrust back.</summary>
    TrustAgain,

    /// <summary>Something that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <summary>What an order has done to an anchor in a store, as long as it holds.</summary>
[JsonConverter(typeof(OpenWord<TrustMark>))]
public enum TrustMark
{
    /// <summary>It is trusted by an order.</summary>
    Pushed,

    /// <summary>It is distrusted, by an order or by the store's own mark.</summary>
    Distrusted,

    /// <summary>Something that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <summary>An anchor with a mark.</summary>
/// <param name="Thumbprint">SHA-256 over the whole certificate, lower-case hexadecimal.</param>
public sealed record MarkedAnchor(string Thumbprint, TrustMark Mark);

/// <summary>A trust store as its agent found it.</summary>
/// <param name="Path">Its file or folder; of the system's bundle, the folder that all its paths start from.</param>
/// <param name="Reader">Who trusts by it, in words.</param>
/// <param name="LetsIn">Whether it says whose certificates clients may come in with, instead of which servers are trusted.</param>
/// <param name="Anchors">How many there are.</param>
/// <param name="Digest">SHA-256 over the anchors' fingerprints (<see cref="AnchorDigest"/>); null when it cannot be read.</param>
/// <param name="Problem">Why it cannot be read.</param>
public sealed record FoundTrustStore(
    TrustKind Kind,
    string Path,
    string Reader,
    bool LetsIn,
    int Anchors,
    string? Digest,
    IReadOnlyList<MarkedAnchor> Marks,
    ProblemInfo? Problem
);

/// <summary>A trust store, and what to do with it.</summary>
/// <param name="Act">Null asks for what the store has.</param>
/// <param name="Anchor">DER, Base64.</param>
public sealed record TrustOrder(TrustKind Kind, string Path, TrustAct? Act = null, string? Anchor = null);

/// <summary>Names a set of anchors.</summary>
public static class AnchorDigest
{
    /// <param name="thumbprints">SHA-256 over each whole certificate, lower-case hexadecimal; in any order, each counted once.</param>
    public static string Of(IEnumerable<string> thumbprints) =>
        Convert.ToHexStringLower(
            System.Security.Cryptography.SHA256.HashData(
                System.Text.Encoding.ASCII.GetBytes(string.Join('\n', thumbprints.Distinct().Order(StringComparer.Ordinal)))
            )
        );
}

/// <summary>An anchor that some store of some host has.</summary>
/// <param name="Ours">One of our roots.</param>
/// <param name="Vouched">Ours, or one that an authority keeper said is trusted: it may be pushed.</param>
/// <param name="TrustedBy">Stores that trust it.</param>
/// <param name="LackedBy">Stores for servers that do not have it, neither by an order nor otherwise.</param>
/// <param name="DistrustedBy">Stores that distrust it by mark.</param>
/// <param name="Services">Services whose chain ends there.</param>
public sealed record AnchorInfo(
    string Thumbprint,
    string Subject,
    DateTimeOffset NotAfter,
    bool Ours,
    bool Vouched,
    int TrustedBy,
    int LackedBy,
    int DistrustedBy,
    int Services
);

/// <summary>A trust store of a host.</summary>
/// <param name="Standing">How it stands to the anchor that was asked about; null when none was.</param>
public sealed record TrustStoreInfo(
    long Id,
    string Host,
    TrustKind Kind,
    string Path,
    string Reader,
    bool LetsIn,
    int Anchors,
    int Pushed,
    int Distrusted,
    AnchorStanding? Standing,
    ProblemInfo? Problem
);

/// <summary>How a store stands to an anchor.</summary>
[JsonConverter(typeof(OpenWord<AnchorStanding>))]
public enum AnchorStanding
{
    /// <summary>It has it from its system or from a person there.</summary>
    Trusted,

    /// <summary>It has it by an order.</summary>
    Pushed,

    /// <summary>It does not have it.</summary>
    Lacking,

    /// <summary>It was told not to trust it.</summary>
    Distrusted,

    /// <summary>Its content is not known yet, or cannot be read.</summary>
    NotKnown,

    /// <summary>Something that this program does not know, from a newer one.</summary>
    Unknown,
}

/// <summary>An anchor whole, with what stands on it.</summary>
/// <param name="Services">The first services whose chain ends there, as <c>HOST/NAME</c>.</param>
public sealed record AnchorDetail(AnchorInfo Anchor, CertificateText Text, IReadOnlyList<string> Services);

/// <summary>A change of trust.</summary>
/// <param name="Anchor">Its fingerprint, or its certificate as PEM.</param>
/// <param name="Stores">Numbers of stores; null and empty: all that the other fields leave.</param>
/// <param name="Hosts">Hosts' names; null and empty: any.</param>
/// <param name="Kind">Null: any; of a push without numbers, not files of servers' own. What lets clients in is changed by its number alone.</param>
public sealed record TrustWish(
    TrustAct Act,
    string Anchor,
    IReadOnlyList<long>? Stores,
    IReadOnlyList<string>? Hosts,
    TrustKind? Kind,
    string? Reason
);

/// <summary>What a change of trust would do, shown before it is ordered.</summary>
/// <param name="Stores">Stores that would be changed, the first of them.</param>
/// <param name="Count">How many would be.</param>
/// <param name="Already">How many of those that were named are so already.</param>
/// <param name="Consequences">In words, the worst first.</param>
/// <param name="Services">Services that are met differently afterwards, as <c>HOST/NAME</c>; the first of them.</param>
public sealed record TrustPlan(
    TrustAct Act,
    AnchorInfo Anchor,
    IReadOnlyList<TrustStoreInfo> Stores,
    int Count,
    int Already,
    IReadOnlyList<string> Consequences,
    IReadOnlyList<string> Services
);

/// <summary>Orders that a change of trust has placed.</summary>
/// <param name="Left">Stores that remain: ask again for the next ones when these have proved good.</param>
public sealed record TrustOrdered(IReadOnlyList<long> Orders, int Left);

/// <summary>Asks why a client refuses a server.</summary>
/// <param name="Host">The host that the client is on.</param>
/// <param name="Store">The number of its trust store; null: each of the host's.</param>
public sealed record WhyWish(string Host, string Address, string? ServerName, ProbeProtocol? Protocol, long? Store);

/// <summary>What clients with one store make of a server.</summary>
/// <param name="Cause">The first cause; null when they accept it.</param>
public sealed record StoreVerdict(TrustStoreInfo Store, bool Accepted, string? Cause, string? Cure)
{
    /// <summary>The fingerprint of the anchor that this store would have to trust; null when that is not the cause.</summary>
    public string? Anchor { get; init; }
}

/// <summary>Why clients of a host refuse a server, store by store.</summary>
/// <param name="Look">What was met, judged by what is trusted here.</param>
public sealed record WhyAnswer(LookInfo Look, IReadOnlyList<StoreVerdict> Verdicts);
