using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Profiles;

/// <summary>Which names a profile issues.</summary>
/// <param name="Wildcards">Wildcard names may be asked for (they need approval).</param>
/// <param name="Addresses">IP addresses may be asked for.</param>
/// <param name="OwnHostOnly">Only the host's own name: for agents.</param>
public sealed record NameRules(bool Wildcards, bool Addresses, bool OwnHostOnly)
{
    /// <summary>Host names may be asked for.</summary>
    public bool HostNames { get; init; } = true;

    /// <summary>Names are in one of these zones; empty sets no bound. The requester's own zones hold besides.</summary>
    public IReadOnlyList<DnsName> Within { get; init; } = [];

    /// <summary>For what clients everywhere reach: no names and addresses that exist inside only.</summary>
    public bool Outward { get; init; }

    /// <summary>How many names one certificate may have.</summary>
    public int Most { get; init; } = 250;

    /// <summary>Whether any name at all can be issued.</summary>
    public bool Any => HostNames || Addresses || OwnHostOnly;
}

/// <summary>Where a certificate's subject comes from.</summary>
public enum SubjectSource
{
    /// <summary>As the request has it, as far as its common name is among the names; else the first name.</summary>
    Request,

    /// <summary>The first name as common name, whatever the request says.</summary>
    FirstName,

    /// <summary>None: the names say it all (RFC 5280 section 4.1.2.6).</summary>
    Empty,
}

/// <summary>Whom a profile is for.</summary>
public enum ProfileUse
{
    /// <summary>People, and programs in their name.</summary>
    People,

    /// <summary>Agents, for themselves.</summary>
    Agents,

    /// <summary>The service, for itself.</summary>
    Service,
}

/// <summary>What may be issued and to whom. A revision never changes; a change makes the next one.</summary>
public sealed record Profile
{
    /// <summary>The short name in addresses and commands, as <c>server</c>.</summary>
    public required string Id { get; init; }
    public required int Revision { get; init; }
    public required string Title { get; init; }
    public required string Purpose { get; init; }
    public required TimeSpan Life { get; init; }
    public required IReadOnlyList<KeySpec> Keys { get; init; }
    public required KeyUsages KeyUsage { get; init; }
    public required IReadOnlyList<string> ExtendedKeyUsage { get; init; }
    public required NameRules Names { get; init; }
    public SubjectSource Subject { get; init; } = SubjectSource.Request;

    /// <summary>Attributes that every subject gets, whatever is asked for: as <c>O=Thistledown Rail</c>; empty adds none.</summary>
    public DistinguishedName Fixed { get; init; } = DistinguishedName.Empty;

    /// <summary>Groups whose members may ask; empty lets anyone allowed to request certificates.</summary>
    public IReadOnlyList<string> MayAsk { get; init; } = [];

    /// <summary>How many other people must approve every request: 0, 1 or 2. A name that needs approval needs one in any case. The requester never counts.</summary>
    public int Approvals { get; init; }

    /// <summary>Makes authorities: basic constraints say so, and how many may stand below; null makes none.</summary>
    public int? AuthorityDepth { get; init; }
    public ProfileUse Use { get; init; } = ProfileUse.People;

    /// <summary>Groups whose members may take the private key out of its host; empty makes keys that never leave.</summary>
    public IReadOnlyList<string> ReleaseTo { get; init; } = [];

    /// <summary>The edition in use stands on its computer's object in the directory.</summary>
    public bool Published { get; init; }

    /// <summary>Whether keys are made as ones that may leave their host.</summary>
    public bool Releasable => ReleaseTo.Count > 0;

    /// <summary>Whether it may be asked for now. What was issued under it is renewed all the same.</summary>
    public bool Offered { get; init; } = true;

    public bool ForPeople => Use == ProfileUse.People;

    /// <summary>RSA keys may also encipher keys (TLS 1.2 key transport); elliptic ones must not say so (RFC 5480 section 3, RFC 8813).</summary>
    public KeyUsages KeyUsageFor(KeySpec key) =>
        key.Algorithm == KeyAlgorithm.Rsa ? KeyUsage : KeyUsage & ~(KeyUsages.KeyEncipherment | KeyUsages.DataEncipherment);

    public bool Allows(KeySpec key) => Keys.Contains(key);

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.KeyNotAllowed"/>.</exception>
    public void CheckKey(KeySpec key)
    {
        if (!Allows(key))
            throw new BeaconProblem(
                ProblemCode.KeyNotAllowed,
                $"The profile \"{Id}\" does not allow a key of {key}.",
                "Use one of " + string.Join(", ", Keys) + "."
            );
    }

    /// <summary>Whether somebody may ask for it: it is offered, for people, and for one of their groups.</summary>
    public bool MayBeAskedBy(IReadOnlyCollection<string> groups) =>
        Offered && ForPeople && (MayAsk.Count == 0 || MayAsk.Any(groups.Contains));
}
