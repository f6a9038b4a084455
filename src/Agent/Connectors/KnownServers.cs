using System.CommandLine;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors;

/// <summary>A kind of server, and where it is on a usual machine.</summary>
/// <param name="Configs">Its usual configurations, those that are there.</param>
/// <param name="Binary">Its program, for a configuration.</param>
/// <param name="What">What its configuration is, for help.</param>
internal sealed record KnownServer(string Name, string What, Func<IReadOnlyList<string>> Configs, Func<string, string> Binary)
{
    public Option<string[]> Option() =>
        new($"--{Name}") { Description = $"To look after: {What}.", DefaultValueFactory = _ => [.. Configs()] };

    public ConnectorSettings Settings(string config)
    {
        var full = Path.GetFullPath(config);
        return File.Exists(full) || Directory.Exists(full)
            ? new(Name, Binary(full), full, null)
            : throw new BeaconProblem(ProblemCode.NotFound, $"There is no {full}.", $"Give {What}.");
    }
}

/// <summary>What <c>join</c> and <c>add</c> offer.</summary>
internal static class KnownServers
{
    private const string Clusters = "/usr/lib/postgresql";

    public static readonly KnownServer Nginx = new(
        "nginx",
        "an nginx's main configuration file",
        () => Those("/etc/nginx/nginx.conf"),
        _ => "/usr/sbin/nginx"
    );

    public static readonly IReadOnlyList<KnownServer> All =
    [
        Nginx,
        new("postfix", "a Postfix's configuration folder", () => Those("/etc/postfix"), _ => "/usr/sbin/postfix"),
        new("dovecot", "a Dovecot's main configuration file", () => Those("/etc/dovecot/dovecot.conf"), _ => "/usr/sbin/dovecot"),
        new("apache", "an Apache's main configuration file", () => Those("/etc/apache2/apache2.conf"), _ => "/usr/sbin/apache2"),
        new("haproxy", "an HAProxy's configuration file", () => Those("/etc/haproxy/haproxy.cfg"), _ => "/usr/sbin/haproxy"),
        new("proftpd", "a ProFTPD's main configuration file", () => Those("/etc/proftpd/proftpd.conf"), _ => "/usr/sbin/proftpd"),
        new("vsftpd", "a vsftpd's configuration file", () => Those("/etc/vsftpd.conf"), _ => "/usr/sbin/vsftpd"),
        new("redis", "a Redis's configuration file", () => Those("/etc/redis/redis.conf"), _ => "/usr/bin/redis-server"),
        new("slapd", "a slapd's configuration folder", () => Those("/etc/ldap/slapd.d"), _ => "/usr/sbin/slapd"),
        new("mariadb", "a MariaDB's configuration file", () => Those("/etc/mysql/mariadb.cnf"), _ => "/usr/sbin/mariadbd"),
        new("broker", "a desktop broker's settings", () => Those("/etc/desktop-broker/broker.conf"), _ => "/usr/lib/desktop-broker/broker"),
        new("samba", "a Samba domain controller's smb.conf", Controllers, _ => "/usr/sbin/samba"),
        new("tomcat", "a Tomcat's server.xml", () => Those("/etc/tomcat10/server.xml"), _ => "/usr/share/tomcat10/bin/catalina.sh"),
        new(
            "simplesamlphp",
            "the folder with a SimpleSAMLphp's config.php",
            () => File.Exists("/etc/simplesamlphp/config.php") ? ["/etc/simplesamlphp"] : [],
            _ => "/usr/bin/php"
        ),
        new("postgresql", "a PostgreSQL cluster's postgresql.conf", ClusterConfigs, ClusterPrograms),
    ];

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>, with those that are known.</exception>
    public static KnownServer Of(string name) =>
        All.FirstOrDefault(k => k.Name == name)
        ?? throw new BeaconProblem(
            ProblemCode.InputInvalid,
            $"\"{name}\" is no kind of server that this agent knows.",
            $"Use one of {string.Join(", ", All.Select(k => k.Name))}."
        );

    private static string[] Those(string path) => File.Exists(path) || File.Exists(Path.Combine(path, "main.cf")) ? [path] : [];

    // Most machines have an smb.conf; a domain controller has a directory beside it.
    private static string[] Controllers() => File.Exists("/var/lib/samba/private/sam.ldb") ? Those("/etc/samba/smb.conf") : [];

    private static string[] ClusterConfigs() =>
        Directory.Exists("/etc/postgresql")
            ? [.. Directory.GetFiles("/etc/postgresql", "postgresql.conf", SearchOption.AllDirectories).Order(StringComparer.Ordinal)]
            : [];

    /// <summary>The programs of the version that a configuration's path names, else the newest.</summary>
    private static string ClusterPrograms(string config)
    {
        var versions = Directory.Exists(Clusters) ? Directory.GetDirectories(Clusters).Select(d => Path.GetFileName(d)!).ToList() : [];
        var named = config.Split('/').LastOrDefault(versions.Contains);
        var version = named ?? versions.OrderBy(v => double.TryParse(v, out var n) ? n : 0).LastOrDefault() ?? "15";
        return Path.Combine(Clusters, version, "bin");
    }
}
