using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Profiles;

public enum Verdict
{
    Granted,
    NeedsApproval,
    Refused,
}

/// <summary>Why a name got its verdict. Each has one sentence in <see cref="NameDecision"/>.</summary>
public enum VerdictReason
{
    /// <summary>The host is registered under this name.</summary>
    HostOwnsName,

    /// <summary>The requester's group holds a zone that the name is in.</summary>
    ZoneHeld,

    /// <summary>The requester's group holds a network that the address is in.</summary>
    NetworkHeld,

    /// <summary>The service itself connected to the address and met the host's agent there.</summary>
    MetAtAddress,

    /// <summary>People approved it for this certificate before.</summary>
    ApprovedBefore,

    /// <summary>People approved it now.</summary>
    ApprovedNow,

    /// <summary>The service names itself.</summary>
    ServiceItself,

    /// <summary>A wildcard reaches further than one service.</summary>
    WildcardReachesFar,

    /// <summary>Another host says that it serves this name now.</summary>
    ServedElsewhere,

    /// <summary>Another host is registered under this name.</summary>
    OtherHostsName,

    /// <summary>Nothing but the host's own word says that the address is its own.</summary>
    AddressNotOfHost,

    /// <summary>No host can have the address alone: loopback, link-local, multicast, documentation.</summary>
    AddressNever,

    /// <summary>The service itself is called so, or the wildcard stands for a name of the service.</summary>
    ServiceName,

    /// <summary>No zone that the requester's groups hold has this name.</summary>
    NoZone,

    /// <summary>The profile issues no wildcards.</summary>
    ProfileNoWildcards,

    /// <summary>The profile issues no addresses.</summary>
    ProfileNoAddresses,

    /// <summary>The profile issues the host's own name only.</summary>
    ProfileOwnNameOnly,

    /// <summary>The profile issues no host names.</summary>
    ProfileNoHostNames,

    /// <summary>The profile issues names in certain zones only.</summary>
    ProfileOtherZone,

    /// <summary>The profile issues fewer names than were asked for.</summary>
    ProfileTooMany,

    /// <summary>The authority, or one above it, may not certify this name.</summary>
    OutOfBounds,

    /// <summary>It is not a name that a certificate may carry.</summary>
    Malformed,

    /// <summary>The directory has it as a DNS name of this computer.</summary>
    ComputersName,

    /// <summary>The directory has it in a service principal of this computer.</summary>
    ServicePrincipal,

    /// <summary>In DNS it is an alias that ends at this computer.</summary>
    AliasEndsHere,

    /// <summary>DNS calls the address by this computer's name, and the name leads back to it.</summary>
    ReverseAndForward,

    /// <summary>The directory has it as a name of another computer.</summary>
    OtherComputersName,

    /// <summary>A group that the requester is not in holds the zone.</summary>
    ZoneOfOthers,

    /// <summary>The requester's group holds the zone, but not for wildcards.</summary>
    ZoneNoWildcards,

    /// <summary>The wildcard would stand for names that other groups hold.</summary>
    WildcardOverSharedZone,

    /// <summary>No certificate may carry it, whoever asks.</summary>
    ReservedName,

    /// <summary>It exists inside only, and the profile is for what faces outward.</summary>
    InsideOnly,
}

/// <summary>What was decided about one name, and on what evidence.</summary>
/// <param name="Name">As <see cref="AlternativeName.ToString"/> writes it; as it was typed when it is malformed.</param>
public sealed record NameVerdict(string Name, Verdict Verdict, VerdictReason Reason, string Evidence, string Cure)
{
    /// <summary>Groups that hold the name's zone: a member of one must approve it, or an administrator. Empty where any approver may.</summary>
    public IReadOnlyList<string> Holders { get; init; } = [];
}
