using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Rights;

namespace OrderlyBeacon.Service;

/// <summary>The service's configuration: section <c>Beacon</c> of appsettings.json, or environment variables <c>BEACON_NAME</c>, read by <see cref="Settings"/>. See docs/guide/service.md.</summary>
public sealed class BeaconOptions
{
    /// <summary>Folder of everything the service keeps.</summary>
    public string Data { get; set; } = "data";

    /// <summary>Port of the console, API and EST (TLS).</summary>
    public int Port { get; set; } = 7443;

    /// <summary>Port of CRLs and issuer certificates (plain HTTP).</summary>
    public int PublicationPort { get; set; } = 7480;

    /// <summary>Address to listen on.</summary>
    public string Listen { get; set; } = "127.0.0.1";

    /// <summary>Names and addresses under which clients reach this service, separated by commas; the first is used in addresses.</summary>
    public string Names { get; set; } = "localhost,127.0.0.1";

    /// <summary>Plain HTTP address that goes into certificates, without the final slash; made from the first name when empty.</summary>
    public string PublicationUrl { get; set; } = "";

    /// <summary>Who may have names certified: <c>zone=group;zone=group</c>.</summary>
    public string Zones { get; set; } = "";

    /// <summary>The directory: <c>ldaps://HOST</c>, <c>ldap://HOST</c> (with Kerberos), or the path of a YAML file; empty for none.</summary>
    public string Directory { get; set; } = "";

    /// <summary>Where searches in the directory begin; what it names itself when empty.</summary>
    public string DirectoryBase { get; set; } = "";

    /// <summary>Who signs in at the directory with a password; empty signs in by Kerberos from the keytab.</summary>
    public string DirectoryName { get; set; } = "";

    /// <summary>File with that password.</summary>
    public string DirectoryPasswordFile { get; set; } = "";

    /// <summary>Folder of PEM files of the authorities that the directory's own certificate may come from; the machine's when empty.</summary>
    public string DirectoryTrust { get; set; } = "";

    /// <summary>Minutes for which an answer of the directory is kept.</summary>
    public double DirectoryMinutes { get; set; } = 5;

    /// <summary>Roles of the directory's groups: <c>approvers=cert-officers;host-keepers=server-team</c>.</summary>
    public string Roles { get; set; } = "";

    /// <summary>Groups of the directory, separated by semicolons, whose computers' agents join by their machine account, without a code; <c>*</c> for all that an administrator made.</summary>
    public string DomainHosts { get; set; } = "";

    /// <summary>The Kerberos realm whose tickets are taken; the directory's when empty.</summary>
    public string Realm { get; set; } = "";

    /// <summary>Keytab with the key of HTTP/NAME, by which people and agents sign in with tickets, and with which the service signs in at the directory; empty for no tickets.</summary>
    public string Keytab { get; set; } = "";

    /// <summary>DNS servers that are asked about names, separated by commas; <c>system</c> for this machine's, <c>none</c> for none. With a directory it is <c>system</c>, without one <c>none</c>.</summary>
    public string Dns { get; set; } = "";

    /// <summary>Zones whose TLSA records the service may write, separated by semicolons: <c>ZONE=SERVER,KEY-NAME,KEY-FILE</c>. See docs/guide/service.md.</summary>
    public string DnsUpdates { get; set; } = "";

    /// <summary>What authorities are called.</summary>
    public string Organization { get; set; } = "Orderly Beacon";

    /// <summary>Key of new authorities.</summary>
    public string AuthorityKey { get; set; } = "ec-p256";

    /// <summary>How RSA authority keys sign: <c>pkcs1</c>, which everything checks, or <c>pss</c>.</summary>
    public string AuthoritySignature { get; set; } = "pkcs1";

    /// <summary>PKCS#11 module in which new authority keys are made and kept; empty keeps them as encrypted files.</summary>
    public string TokenModule { get; set; } = "";

    /// <summary>Label of the token.</summary>
    public string TokenLabel { get; set; } = "";

    /// <summary>File with the token's PIN, unless it comes as a systemd credential named <c>beacon-token-pin</c>.</summary>
    public string TokenPinFile { get; set; } = "";

    /// <summary>How the first run founds the issuing authority: <c>whole</c> with a root of its own, or <c>offline</c> under a root that is elsewhere.</summary>
    public string Founding { get; set; } = "whole";

    /// <summary>Life of a CRL in hours; the next one is issued at half of it.</summary>
    public double CrlHours { get; set; } = 24;

    /// <summary>Life of a delta CRL in hours; the next one is issued at half of it.</summary>
    public double DeltaHours { get; set; } = 6;

    /// <summary>Life of an OCSP answer in hours; it is kept for half of it at most.</summary>
    public double OcspHours { get; set; } = 4;

    /// <summary>Minutes between two looks at the hierarchy as clients see it.</summary>
    public double HealthMinutes { get; set; } = 15;

    /// <summary>Further points to which certificates and lists are brought, separated by semicolons: folders, SFTP servers, directories. See docs/guide/service.md.</summary>
    public string Pushes { get; set; } = "";

    /// <summary>Seconds without a word after which a host counts as away.</summary>
    public int HostAwaySeconds { get; set; } = 120;

    /// <summary>Found certificates are called out this many days before their end.</summary>
    public int SoonDays { get; set; } = 30;

    /// <summary>PEM files with the certificates of recovery keys, separated by semicolons: backups are sealed to all of them. See beacon ceremony recovery-key.</summary>
    public string RecoveryCertificates { get; set; } = "";

    /// <summary>Minutes for which a password that was just given is proof enough for what outlasts a session.</summary>
    public double FreshMinutes { get; set; } = 5;

    /// <summary>Whether a second administrator must consent to what outlasts a session: backups, profiles, people, authorities.</summary>
    public bool SecondPerson { get; set; }

    /// <summary>What a founded issuing authority may certify: <c>zones</c> (those in <see cref="Zones"/> and the service's own names), or <c>none</c> for everything.</summary>
    public string Bounds { get; set; } = "zones";

    /// <summary>Whether <c>/metrics</c> is given on the plain port too; on the TLS port it wants a sign-in.</summary>
    public bool PlainMetrics { get; set; }

    /// <summary>Sign-ins that one address may try in a minute.</summary>
    public int SignInsPerMinute { get; set; } = 30;

    /// <summary>Connections that one address may hold at a time; hosts behind one address share it.</summary>
    public int ConnectionsPerSource { get; set; } = 4000;

    /// <summary>Networks that host keepers may look over for certificates, separated by commas; empty for none.</summary>
    public string Sweeps { get; set; } = "";

    /// <summary>PEM file of further roots that clients trust, besides our own: what chains to them is not called unknown.</summary>
    public string Anchors { get; set; } = "";

    /// <summary>What the first administrator is called.</summary>
    public string FirstName { get; set; } = "administrator";

    /// <summary>File with the first administrator's password; without one a password is made and left in <c>first-sign-in.txt</c>.</summary>
    public string FirstPasswordFile { get; set; } = "";

    public IReadOnlyList<string> NameList => Names.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries);

    public string Url => $"https://{NameList[0]}:{Port}";

    public string PublicUrl => PublicationUrl.Length > 0 ? PublicationUrl.TrimEnd('/') : $"http://{NameList[0]}:{PublicationPort}";

    private IReadOnlyList<Network>? _sweeps;

    /// <summary><see cref="Sweeps"/>, read once.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NameMalformed"/> when an entry is not a network.</exception>
    public IReadOnlyList<Network> SweepNetworks =>
        _sweeps ??= [.. Sweeps.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries).Select(Network.Parse)];

    private Holdings? _holdings;

    /// <summary><see cref="Zones"/>, read once.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/> when an entry is not of the form zone=group.</exception>
    public Holdings Holdings => _holdings ??= Holdings.Read(Zones);

    private HashSet<string>? _ownNames;

    /// <summary>What the service is called, as <see cref="AlternativeName.ToString"/> writes it: nobody else gets a certificate for these.</summary>
    public IReadOnlyCollection<string> OwnNames => _ownNames ??= [.. NameList.Select(n => AlternativeName.Parse(n).ToString())];

    public TimeSpan Freshness => TimeSpan.FromMinutes(FreshMinutes);
}

/// <summary>Who may have what certified, by the settings.</summary>
/// <param name="Groups">All groups that hold something.</param>
public sealed record Holdings(IReadOnlyList<ZoneHolding> Zones, IReadOnlyList<NetworkHolding> Networks, IReadOnlyCollection<string> Groups)
{
    /// <param name="text"><c>zone=group;10.20.0.0/16=group</c>.</param>
    public static Holdings Read(string text)
    {
        var zones = new List<ZoneHolding>();
        var networks = new List<NetworkHolding>();
        foreach (var entry in text.Split(';', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries))
        {
            if (entry.Split('=', 2) is not [var what, { Length: > 0 } whom])
                throw new BeaconProblem(
                    ProblemCode.InputInvalid,
                    $"BEACON_ZONES has \"{entry}\".",
                    "Write zone=group;zone=group; a network in prefix form takes a zone's place, for example 10.20.0.0/16=web."
                );
            var words = whom.Split(',', StringSplitOptions.TrimEntries);
            var group = Group(words[0]);
            if (what.Contains('/') || what.Contains(':'))
                networks.Add(words.Length == 1 ? new(Network.Parse(what), group) : throw BadWord(entry, words[1]));
            else
                zones.Add(words.Skip(1).Aggregate(new ZoneHolding(DnsName.Parse(what), group), (z, w) => With(z, w, entry)));
        }
        return new(zones, networks, zones.Select(z => z.Group).Concat(networks.Select(n => n.Group)).ToHashSet());
    }

    // Groups of the directory are compared without regard to case, as the directory does.
    private static string Group(string text) =>
        text.StartsWith(Who.DirectoryPrefix, StringComparison.OrdinalIgnoreCase) ? text.ToLowerInvariant() : text;

    private static ZoneHolding With(ZoneHolding zone, string word, string entry) =>
        word.Split('=', 2) switch
        {
            ["no-wildcards"] => zone with { Wildcards = false },
            ["depth", var labels] when int.TryParse(labels, out var n) && n is > 0 and < 100 => zone with { Depth = n },
            ["profile", { Length: > 0 } profile] => zone with { Profile = profile },
            _ => throw BadWord(entry, word),
        };

    private static BeaconProblem BadWord(string entry, string word) =>
        new(
            ProblemCode.InputInvalid,
            $"BEACON_ZONES has \"{word}\" in \"{entry}\".",
            "After a zone's group there may stand no-wildcards, depth=LABELS and profile=NAME, separated by commas: thistledown.example=web,no-wildcards,depth=1."
        );

    /// <summary>All of it as people write bounds.</summary>
    public IEnumerable<string> Ranges => Zones.Select(z => z.Zone.Ascii).Concat(Networks.Select(n => n.Network.ToString()));
}
