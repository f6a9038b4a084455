using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;

namespace OrderlyBeacon.Core.Profiles;

/// <summary>The profiles a new service starts with.</summary>
public static class StartingSet
{
    private const KeyUsages Tls = KeyUsages.DigitalSignature | KeyUsages.KeyEncipherment;
    private static readonly NameRules Hosts = new(Wildcards: false, Addresses: true, OwnHostOnly: false);

    public static IReadOnlyList<Profile> All { get; } =
    [
        For("server", "Server", "TLS servers: web, mail, database and the like.", 90, Tls, [Oids.ServerAuth]) with
        {
            Names = Hosts with { Wildcards = true },
        },
        For(
            "server-brief",
            "Server, brief",
            "TLS servers whose certificate is renewed every few minutes.",
            90,
            KeyUsages.DigitalSignature,
            [Oids.ServerAuth]
        ) with
        {
            Life = TimeSpan.FromMinutes(10),
            Keys = [KeySpec.P256, KeySpec.P384],
        },
        For(
            "server-and-client",
            "Server and client",
            "Services that answer and call others with the same certificate, as in mutual TLS between them.",
            90,
            Tls,
            [Oids.ServerAuth, Oids.ClientAuth]
        ),
        For(
            "mail-server",
            "Mail server",
            "SMTP, IMAP and POP servers: they answer clients and call each other.",
            90,
            Tls,
            [Oids.ServerAuth, Oids.ClientAuth]
        ) with
        {
            Names = Hosts with { Addresses = false },
        },
        For(
            "directory-server",
            "Directory server",
            "LDAP servers, which also replicate among themselves.",
            90,
            Tls,
            [Oids.ServerAuth, Oids.ClientAuth]
        ),
        For("database-server", "Database server", "Database servers, under the names that clients connect to.", 90, Tls, [Oids.ServerAuth]),
        For(
            "database-client",
            "Database client",
            "Programs that sign in to a database with a certificate.",
            30,
            KeyUsages.DigitalSignature,
            [Oids.ClientAuth]
        ) with
        {
            Names = Hosts with { Addresses = false },
            Subject = SubjectSource.FirstName,
        },
        For(
            "federation-signing",
            "Federation signing",
            "Signs a federation service's assertions and metadata; partners pin it, so it changes rarely and by hand.",
            365,
            KeyUsages.DigitalSignature,
            []
        ) with
        {
            Names = Hosts with { Addresses = false },
            Approvals = 1,
        },
        For(
            "federation-service",
            "Federation service",
            "The TLS side of a federation service, its proxies included.",
            90,
            Tls,
            [Oids.ServerAuth, Oids.ClientAuth]
        ) with
        {
            Names = Hosts with { Wildcards = true, Addresses = false },
        },
        For("file-transfer", "File transfer", "FTPS and the like.", 90, Tls, [Oids.ServerAuth]),
        For(
            "device",
            "Device",
            "Appliances, printers and other devices that make their own request.",
            365,
            Tls,
            [Oids.ServerAuth, Oids.ClientAuth]
        ) with
        {
            Approvals = 1,
        },
        For(
            "subordinate",
            "Subordinate authority",
            "An issuing authority below this one; what it may do is decided for years.",
            5 * 365,
            KeyUsages.DigitalSignature | KeyUsages.KeyCertSign | KeyUsages.CrlSign,
            []
        ) with
        {
            Names = Hosts with { HostNames = false, Addresses = false },
            Approvals = 1,
            AuthorityDepth = 0,
        },
        For("agent", "Agent", "An agent's own certificate towards this service.", 30, KeyUsages.DigitalSignature, [Oids.ClientAuth]) with
        {
            Keys = [KeySpec.P256],
            Names = new(false, false, OwnHostOnly: true),
            Use = ProfileUse.Agents,
        },
        For(
            "service",
            "The service itself",
            "The service's own TLS certificate, with the mark by which agents and clients know it.",
            90,
            KeyUsages.DigitalSignature,
            [Oids.ServerAuth, Oids.BeaconService]
        ) with
        {
            Keys = [KeySpec.P256],
            Use = ProfileUse.Service,
        },
        For(
            "responder",
            "Revocation responder",
            "Signs OCSP answers for an authority; made by the service for itself.",
            14,
            KeyUsages.DigitalSignature,
            [Oids.OcspSigning]
        ) with
        {
            Keys = [KeySpec.P256],
            Names = Hosts with { HostNames = false, Addresses = false },
            Use = ProfileUse.Service,
        },
    ];

    private static Profile For(string id, string title, string purpose, int days, KeyUsages usage, IReadOnlyList<string> extended) =>
        new()
        {
            Id = id,
            Revision = 1,
            Title = title,
            Purpose = purpose,
            Life = TimeSpan.FromDays(days),
            Keys = KeySpec.All,
            KeyUsage = usage,
            ExtendedKeyUsage = extended,
            Names = Hosts,
        };
}
