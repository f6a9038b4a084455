using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Anchors;

/// <summary>Where clients of a host look up whom they trust, as its agent last described it. What is in it is an <see cref="AnchorSet"/>: most hosts have the same.</summary>
public sealed class TrustStore
{
    public long Id { get; private init; }
    public int HostId { get; private init; }
    public TrustKind Kind { get; private init; }
    public string Path { get; private init; } = "";
    public string Reader { get; private set; } = "";

    /// <summary>It says whose certificates clients may come in with.</summary>
    public bool LetsIn { get; private set; }

    /// <summary>The set's name, as the agent says it; null when the store cannot be read.</summary>
    public string? Digest { get; private set; }

    /// <summary>The set; null until its content is known.</summary>
    public long? SetId { get; private set; }
    public int Anchors { get; private set; }

    /// <summary>Why it cannot be read.</summary>
    public string? ProblemJson { get; private set; }

    /// <summary>Why the last order about it failed; null after one that did not.</summary>
    public string? FailureJson { get; private set; }

    public static TrustStore Of(int hostId, FoundTrustStore f) =>
        new()
        {
            HostId = hostId,
            Kind = f.Kind,
            Path = f.Path,
        };

    public void Described(string reader, bool letsIn, int anchors, string? problemJson) =>
        (Reader, LetsIn, Anchors, ProblemJson) = (reader, letsIn, anchors, problemJson);

    public void Has(string? digest, long? set) => (Digest, SetId) = (digest, set);

    public void Changed(string? failureJson) => FailureJson = failureJson;
}

/// <summary>An anchor that some store has, once for all of them.</summary>
public sealed class KnownAnchor
{
    public long Id { get; private init; }

    /// <summary>SHA-256 over the whole certificate, lower-case hexadecimal.</summary>
    public string Thumbprint { get; init; } = "";
    public string Subject { get; init; } = "";
    public DateTimeOffset NotAfter { get; init; }
    public byte[] Der { get; init; } = [];

    /// <summary>One of our roots.</summary>
    public bool Ours { get; private set; }

    public void IsOurs(bool ours) => Ours = ours;
}

/// <summary>All anchors of a store; the same for all stores that have the same.</summary>
public sealed class AnchorSet
{
    public long Id { get; private init; }

    /// <summary><see cref="AnchorDigest"/> over its anchors.</summary>
    public string Digest { get; init; } = "";

    /// <summary>Stores that have it.</summary>
    public int Stores { get; private set; }

    /// <summary>Those of them that say which servers are trusted.</summary>
    public int ForServers { get; private set; }

    public void Count(int stores, int forServers) => (Stores, ForServers) = (Stores + stores, ForServers + forServers);
}

/// <summary>An anchor in a set.</summary>
public sealed class AnchorSetMember
{
    public long SetId { get; init; }
    public long AnchorId { get; init; }
}

/// <summary>What an order, or the store itself, says about one anchor in one store.</summary>
public sealed class StoreMark
{
    public long StoreId { get; init; }
    public string Thumbprint { get; init; } = "";
    public TrustMark Mark { get; init; }
}
