using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>A certification authority we run.</summary>
public sealed class Authority
{
    public const string RootSlug = "root";
    public const string IssuingSlug = "issuing";

    public int Id { get; private init; }

    /// <summary>Its name in addresses.</summary>
    public string Slug { get; private init; } = "";
    public string Name { get; private init; } = "";

    /// <summary><c>root</c> or <c>issuing</c>.</summary>
    public string Kind { get; private init; } = "";
    public List<Generation> Generations { get; private init; } = [];

    public static Authority Of(string slug, string name, string kind, byte[] certificate, string? keyFile) => new()
    {
        Slug = slug, Name = name, Kind = kind, Generations = [Generation.Of(1, certificate, keyFile)],
    };

    /// <summary>One whose certificate is still to come from an offline root.</summary>
    public static Authority Asking(string slug, string name, string kind, byte[] request, string keyFile) => new()
    {
        Slug = slug, Name = name, Kind = kind, Generations = [Generation.Asking(1, request, keyFile)],
    };
}

/// <summary>One of an authority's successive certificates.</summary>
public sealed class Generation
{
    public int Id { get; private init; }
    public int AuthorityId { get; private init; }
    public int Number { get; private init; }
    public byte[] Der { get; private set; } = [];

    /// <summary>The request that went out for it; empty when none was needed.</summary>
    public byte[] Request { get; private init; } = [];

    /// <summary>Whether its certificate is still to come.</summary>
    public bool Waits => Der.Length == 0;

    /// <summary>File name under the keys folder; null when the key is elsewhere (an offline root).</summary>
    public string? KeyFile { get; private init; }

    public static Generation Of(int number, byte[] der, string? keyFile) => new() { Number = number, Der = der, KeyFile = keyFile };

    public static Generation Asking(int number, byte[] request, string keyFile) => new() { Number = number, Request = request, KeyFile = keyFile };

    public void Answer(byte[] der) => Der = Waits ? der : throw new InvalidOperationException("It has its certificate.");

    public X509 Read() => X509.Read(Der);
}

/// <summary>A CRL that was published, full or delta; the newest of each is served.</summary>
public sealed class PublishedCrl
{
    public int Id { get; private init; }
    public required int AuthorityId { get; init; }
    public required long Number { get; init; }
    public bool IsDelta { get; init; }

    /// <summary>Of a delta: the oldest full list it can be read with.</summary>
    public long? BaseNumber { get; init; }
    public required byte[] Der { get; init; }
    public required DateTimeOffset ThisUpdate { get; init; }
    public required DateTimeOffset NextUpdate { get; init; }
    public required int Revoked { get; init; }
}
