using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>A certification authority we run.</summary>
public sealed class Authority
{
    public const string RootSlug = "root";
    public const string IssuingSlug = "issuing";

    /// <summary>The kind, and the beginning of the slug, of one that stands between ours and the root and is run elsewhere.</summary>
    public const string Above = "above";

    public int Id { get; private init; }

    /// <summary>Its name in addresses.</summary>
    public string Slug { get; private init; } = "";
    public string Name { get; private init; } = "";

    /// <summary><c>root</c>, <c>issuing</c> or <c>above</c>.</summary>
    public string Kind { get; private init; } = "";
    public List<Generation> Generations { get; private init; } = [];

    /// <summary>Certificates that one of its keys got from another of its keys: who trusts only the one follows them to the other.</summary>
    public List<CrossCertificate> Crosses { get; private init; } = [];

    /// <summary>The generation that issues; null while none does.</summary>
    public Generation? InUse => Generations.Where(g => g.TakenUpAt is not null && g.WithdrawnAt is null).MaxBy(g => g.Number);

    /// <summary>The one that is on its way: asked for, or answered and published, and not in use yet.</summary>
    public Generation? Coming => Generations.Where(g => g.TakenUpAt is null && g.WithdrawnAt is null).MaxBy(g => g.Number);

    /// <summary>Those that have a certificate and were not withdrawn, oldest first.</summary>
    public IEnumerable<Generation> Certified => Generations.Where(g => !g.Waits && g.WithdrawnAt is null).OrderBy(g => g.Number);

    public GenerationState StateOf(Generation g)
    {
        if (g.WithdrawnAt is not null)
            return GenerationState.Withdrawn;
        if (g.Waits)
            return GenerationState.Waiting;
        if (g.TakenUpAt is null)
            return GenerationState.Published;
        if (g == InUse)
            return GenerationState.InUse;
        return GenerationState.Past;
    }

    /// <summary>What a key's list and certificate are called in addresses: the first key's carry the authority's name alone.</summary>
    public static string FileOf(string slug, int keyNumber) => keyNumber == 1 ? slug : $"{slug}-{keyNumber}";

    public static Authority Of(string slug, string name, string kind, byte[] certificate, string? keyFile, DateTimeOffset now) =>
        new()
        {
            Slug = slug,
            Name = name,
            Kind = kind,
            Generations = [Generation.Of(1, 1, certificate, keyFile, now)],
        };

    /// <summary>One whose certificate is still to come from an offline root.</summary>
    public static Authority Asking(string slug, string name, string kind, byte[] request, string keyFile) =>
        new()
        {
            Slug = slug,
            Name = name,
            Kind = kind,
            Generations = [Generation.Asking(1, 1, request, keyFile)],
        };

    /// <summary>Adds a generation whose certificate is still to come.</summary>
    /// <param name="keyFile">Of a new key; null goes on with the key in use.</param>
    public Generation Ask(byte[] request, string? keyFile)
    {
        var now = InUse ?? throw new InvalidOperationException("Nothing is in use that could be renewed.");
        var g = Generation.Asking(
            NextNumber,
            keyFile is null ? now.KeyNumber : Generations.Max(x => x.KeyNumber) + 1,
            request,
            keyFile ?? now.KeyFile!
        );
        Generations.Add(g);
        return g;
    }

    /// <summary>Adds a certificate whose key is elsewhere.</summary>
    public Generation Add(byte[] certificate, int keyNumber, DateTimeOffset now)
    {
        var g = Generation.Of(NextNumber, keyNumber, certificate, null, now);
        Generations.Add(g);
        return g;
    }

    private int NextNumber => Generations.Max(g => g.Number) + 1;
}

/// <summary>Where one of an authority's generations stands.</summary>
public enum GenerationState
{
    /// <summary>Its certificate is still to come.</summary>
    Waiting,

    /// <summary>Its certificate is published; nothing is issued under it yet.</summary>
    Published,

    /// <summary>It issues.</summary>
    InUse,

    /// <summary>A later one issues; its lists and answers go on.</summary>
    Past,

    /// <summary>Taken back before anything was issued under it.</summary>
    Withdrawn,
}

/// <summary>One of an authority's successive certificates.</summary>
public sealed class Generation
{
    public int Id { get; private init; }
    public int AuthorityId { get; private init; }
    public int Number { get; private init; }

    /// <summary>Counts the authority's keys: generations with the same key share it, and with it their lists and responder.</summary>
    public int KeyNumber { get; private init; }
    public byte[] Der { get; private set; } = [];

    /// <summary>The request that went out for it; empty when none was needed.</summary>
    public byte[] Request { get; private init; } = [];

    /// <summary>Whether its certificate is still to come.</summary>
    public bool Waits => Der.Length == 0;

    /// <summary>Since when it issues.</summary>
    public DateTimeOffset? TakenUpAt { get; private set; }
    public DateTimeOffset? WithdrawnAt { get; private set; }

    /// <summary>File name under the keys folder; null when the key is elsewhere (an offline root).</summary>
    public string? KeyFile { get; private init; }

    public static Generation Of(int number, int keyNumber, byte[] der, string? keyFile, DateTimeOffset now) =>
        new()
        {
            Number = number,
            KeyNumber = keyNumber,
            Der = der,
            KeyFile = keyFile,
            TakenUpAt = now,
        };

    public static Generation Asking(int number, int keyNumber, byte[] request, string keyFile) =>
        new()
        {
            Number = number,
            KeyNumber = keyNumber,
            Request = request,
            KeyFile = keyFile,
        };

    public void Answer(byte[] der) => Der = Waits ? der : throw new InvalidOperationException("It has its certificate.");

    public void TakeUp(DateTimeOffset now) =>
        TakenUpAt = Waits || WithdrawnAt is not null ? throw new InvalidOperationException("It cannot issue.") : now;

    public void Withdraw(DateTimeOffset now) => WithdrawnAt = now;

    public X509 Read() => X509.Read(Der);
}

/// <summary>One of an authority's keys, certified by another of its keys (RFC 4210 section 4.4).</summary>
public sealed class CrossCertificate
{
    public int Id { get; private init; }
    public int AuthorityId { get; private init; }
    public required byte[] Der { get; init; }

    public X509 Read() => X509.Read(Der);
}

/// <summary>A CRL that was published, full or delta, of one of the authority's keys; the newest of each is served.</summary>
public sealed class PublishedCrl
{
    public int Id { get; private init; }
    public required int AuthorityId { get; init; }
    public int KeyNumber { get; init; } = 1;
    public required long Number { get; init; }
    public bool IsDelta { get; init; }

    /// <summary>Of a delta: the oldest full list it can be read with.</summary>
    public long? BaseNumber { get; init; }
    public required byte[] Der { get; init; }
    public required DateTimeOffset ThisUpdate { get; init; }
    public required DateTimeOffset NextUpdate { get; init; }
    public required int Revoked { get; init; }
}
