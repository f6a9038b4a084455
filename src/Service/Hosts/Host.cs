using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Hosts;

/// <summary>A server with our agent. Invited with a code, joined by it once, removed at the end.</summary>
public sealed class Host
{
    public int Id { get; private init; }
    public string Name { get; private init; } = "";
    public HostState State { get; private set; }
    public string? JoinCodeHash { get; private set; }
    public DateTimeOffset? JoinCodeUntil { get; private set; }
    public DateTimeOffset? LastSeen { get; private set; }
    public string? AgentVersion { get; private set; }
    public string AddressesJson { get; private set; } = "[]";
    public string EntriesJson { get; private set; } = "[]";
    public string? ProblemJson { get; private set; }

    /// <summary>Thumbprints of the roots that its agent trusts; null while it has not said.</summary>
    public string? AnchorsJson { get; private set; }
    public DateTimeOffset? AgentCertificateEnds { get; private set; }

    /// <summary>The public key that what only its agent may read is sealed to, Base64; null while it has not said.</summary>
    public string? SealKey { get; private set; }

    /// <summary>Intermediates and anchors of its store, as its agent said.</summary>
    public string AuthoritiesJson { get; private set; } = "[]";

    public void StoreHas(string? sealKey, string authoritiesJson) => (SealKey, AuthoritiesJson) = (sealKey, authoritiesJson);

    /// <summary>Who may order work on it: a person, or <c>group:NAME</c>.</summary>
    public string Owner { get; private set; } = DefaultOwner;

    /// <summary>Thumbprint of the certificate that its agent speaks with; null while it has not joined.</summary>
    public string? AgentThumbprint { get; private set; }

    /// <summary>Of the next one: issued, and not used yet. From its first use on it takes the other's place.</summary>
    public string? AgentNextThumbprint { get; private set; }

    /// <summary>Addresses at which the service itself met its agent, with the moment.</summary>
    public string MetJson { get; private set; } = "{}";

    /// <summary>Its computer account in the directory, when its agent joined by that; null when it joined by a code.</summary>
    public string? Account { get; private set; }

    /// <summary>What that account is known by, whatever it is called: an account that is made anew is another one.</summary>
    public string? AccountId { get; private set; }

    /// <summary>The host whose agent reaches it: it is a device without an agent of its own. Null for a host with an agent.</summary>
    public int? ViaHostId { get; private set; }

    /// <summary>The kind of device, as <c>appliance</c>; null for a host with an agent.</summary>
    public string? Device { get; private set; }

    /// <summary>Where its agent reaches it; the credentials are known to that agent alone.</summary>
    public string? DeviceAddress { get; private set; }

    /// <summary>The host whose agent does its orders.</summary>
    public int AgentHostId => ViaHostId ?? Id;

    public const string DefaultOwner = "group:administrators";

    /// <summary>How long a meeting is evidence.</summary>
    private static readonly TimeSpan MeetingLife = TimeSpan.FromDays(1);

    public static Host Invite(string name, string owner) => new() { Name = name, Owner = owner };

    /// <summary>Joined by its machine account: nobody invited it.</summary>
    public static Host OfDomain(string name, string account, string accountId) =>
        new()
        {
            Name = name,
            Account = account,
            AccountId = accountId,
        };

    /// <summary>A device that an agent reaches: a host keeper said that it is there and what it is called.</summary>
    public static Host OfDevice(string name, string owner) => new() { Name = name, Owner = owner };

    public void ReachedBy(int viaHostId, string kind, string address, string owner) =>
        (ViaHostId, Device, DeviceAddress, Owner, State, JoinCodeHash, Account, AccountId) = (
            viaHostId,
            kind,
            address,
            owner,
            HostState.Joined,
            null,
            null,
            null
        );

    /// <summary>How its agent fared when it was told how to get into this device.</summary>
    /// <param name="problemJson">A <see cref="Contracts.ProblemInfo"/>; null when it got in.</param>
    public void Tried(string? problemJson) => ProblemJson = problemJson;

    /// <summary>An agent of its own speaks for it from now on.</summary>
    private void IsNoDevice() => (ViaHostId, Device, DeviceAddress) = (null, null, null);

    /// <summary>It was removed, and an account joins under its name: what was is over, also who owned it.</summary>
    public void ComeBackAs(string account, string accountId)
    {
        IsNoDevice();
        (Account, AccountId, Owner, State) = (account, accountId, DefaultOwner, HostState.Invited);
    }

    public void GiveTo(string owner) => Owner = owner;

    /// <summary>Addresses, as names are written, at which its agent was met a short while ago.</summary>
    public IReadOnlyCollection<string> MetAt(DateTimeOffset now) =>
        [.. Meetings.Where(m => m.Value > now - MeetingLife).Select(m => m.Key)];

    public void Met(string address, DateTimeOffset at)
    {
        var meetings = Meetings.Where(m => m.Value > at - MeetingLife).ToDictionary(m => m.Key, m => m.Value);
        meetings[address] = at;
        MetJson = JsonSerializer.Serialize(meetings, BeaconJson.Default.DictionaryStringDateTimeOffset);
    }

    private Dictionary<string, DateTimeOffset> Meetings =>
        JsonSerializer.Deserialize(MetJson, BeaconJson.Default.DictionaryStringDateTimeOffset)!;

    public void NewJoinCode(string hash, DateTimeOffset until)
    {
        if (State == HostState.Joined)
            throw new BeaconProblem(
                ProblemCode.AlreadyExists,
                $"The host {Name} has joined already.",
                $"If its agent was lost, remove the host first: beacon host remove {Name}."
            );
        IsNoDevice();
        (State, JoinCodeHash, JoinCodeUntil, Account, AccountId) = (HostState.Invited, hash, until, null, null);
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.JoinCodeRefused"/>.</exception>
    public void CheckJoinCode(string hash, DateTimeOffset now)
    {
        if (State == HostState.Joined)
            throw Refused("has been used already");
        if (
            JoinCodeHash is null
            || !System.Security.Cryptography.CryptographicOperations.FixedTimeEquals(
                Convert.FromHexString(JoinCodeHash),
                Convert.FromHexString(hash)
            )
        )
            throw Refused("is not the one that was made last");
        if (JoinCodeUntil < now)
            throw Refused($"was good until {JoinCodeUntil:yyyy-MM-dd HH:mm} UTC only");

        BeaconProblem Refused(string why) =>
            new(ProblemCode.JoinCodeRefused, $"The join code for {Name} {why}.", $"Make a new one: beacon host invite {Name}.");
    }

    /// <summary>The code is used up; what spoke for the host before speaks for it no more. The certificate follows.</summary>
    public void Join() =>
        (State, JoinCodeHash, JoinCodeUntil, AgentThumbprint, AgentNextThumbprint, MetJson) = (
            HostState.Joined,
            null,
            null,
            null,
            null,
            "{}"
        );

    /// <summary>The next certificate was used: the one before is over.</summary>
    public void AgentTookUp(string thumbprint)
    {
        if (AgentNextThumbprint == thumbprint)
            (AgentThumbprint, AgentNextThumbprint) = (thumbprint, null);
    }

    public void Seen(DateTimeOffset at) => LastSeen = at;

    public void Reported(
        DateTimeOffset at,
        string version,
        string addressesJson,
        string entriesJson,
        string? problemJson,
        string? anchorsJson
    ) =>
        (LastSeen, AgentVersion, AddressesJson, EntriesJson, ProblemJson, AnchorsJson) = (
            at,
            version,
            addressesJson,
            entriesJson,
            problemJson,
            anchorsJson
        );

    public void Remove() => (State, JoinCodeHash, AgentThumbprint, AgentNextThumbprint) = (HostState.Removed, null, null, null);

    public void ThrowIfGone()
    {
        if (State == HostState.Removed)
            throw new BeaconProblem(
                ProblemCode.HostGone,
                $"The host {Name} was removed.",
                $"Invite it again first: beacon host invite {Name}."
            );
    }
}
