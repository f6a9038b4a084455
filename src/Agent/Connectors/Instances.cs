using OrderlyBeacon.Agent.Connectors.Apache;
using OrderlyBeacon.Agent.Connectors.Broker;
using OrderlyBeacon.Agent.Connectors.Dovecot;
using OrderlyBeacon.Agent.Connectors.HaProxy;
using OrderlyBeacon.Agent.Connectors.MariaDb;
using OrderlyBeacon.Agent.Connectors.Nginx;
using OrderlyBeacon.Agent.Connectors.Postfix;
using OrderlyBeacon.Agent.Connectors.PostgreSql;
using OrderlyBeacon.Agent.Connectors.ProFtpd;
using OrderlyBeacon.Agent.Connectors.Redis;
using OrderlyBeacon.Agent.Connectors.Samba;
using OrderlyBeacon.Agent.Connectors.SimpleSamlPhp;
using OrderlyBeacon.Agent.Connectors.Slapd;
using OrderlyBeacon.Agent.Connectors.Tomcat;
using OrderlyBeacon.Agent.Connectors.Vsftpd;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors;

/// <summary>A service of one instance.</summary>
/// <param name="Name">Its name within the instance.</param>
/// <param name="Label">Its name on this host, which no other service here has.</param>
internal sealed record ServiceRef(IConnector Instance, string Name, string Label);

/// <summary>
/// All servers of this host. Services of the first server that has a name for each of its sites are called by that name alone; those of others by <c>NAME@INSTANCE</c>, so that
/// two servers may have a site of one name. A server that is one service is called like its instance: <c>postfix</c>, <c>postgresql-2</c>.
/// </summary>
internal sealed class Instances
{
    private readonly Dictionary<string, IConnector> _byName = [];

    public Instances(IEnumerable<IConnector> connectors)
    {
        foreach (var c in connectors)
            _byName.Add(c.Id.Name, c);
    }

    private static readonly Dictionary<string, Func<InstanceId, ConnectorSettings, IConnector>> Kinds = new()
    {
        ["nginx"] = (id, s) => new NginxConnector(id, s),
        ["apache"] = (id, s) => new ApacheConnector(id, s),
        ["postfix"] = (id, s) => new PostfixConnector(id, s),
        ["dovecot"] = (id, s) => new DovecotConnector(id, s),
        ["postgresql"] = (id, s) => new PostgreSqlConnector(id, s),
        ["haproxy"] = (id, s) => new HaProxyConnector(id, s),
        ["proftpd"] = (id, s) => new ProFtpdConnector(id, s),
        ["vsftpd"] = (id, s) => new VsftpdConnector(id, s),
        ["redis"] = (id, s) => new RedisConnector(id, s),
        ["slapd"] = (id, s) => new SlapdConnector(id, s),
        ["mariadb"] = (id, s) => new MariaDbConnector(id, s),
        ["broker"] = (id, s) => new BrokerConnector(id, s),
        ["samba"] = (id, s) => new SambaConnector(id, s),
        ["tomcat"] = (id, s) => new TomcatConnector(id, s),
        ["simplesamlphp"] = (id, s) => new SimpleSamlPhpConnector(id, s),
    };

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>: agent.json names a kind that this agent does not know.</exception>
    /// <param name="host">This host's name.</param>
    public static Instances Of(IReadOnlyList<ConnectorSettings> settings, string host)
    {
        var made = new List<IConnector>();
        foreach (var s in settings)
        {
            if (!Kinds.TryGetValue(s.Kind, out var make))
                throw new BeaconProblem(
                    ProblemCode.InputInvalid,
                    $"agent.json names a connector of the kind \"{s.Kind}\".",
                    $"Use one of {string.Join(", ", Kinds.Keys.Order(StringComparer.Ordinal))}."
                );
            var before = made.Count(c => c.Id.Kind == s.Kind);
            var name = before == 0 ? s.Kind : $"{s.Kind}-{before + 1}";
            made.Add(make(new(s.Kind, name, s.Config), s with { Host = host }));
        }
        return new(made);
    }

    public IReadOnlyCollection<IConnector> All => _byName.Values;

    /// <summary>Found after a kill by what a journal says.</summary>
    public IConnector? Find(string name) => _byName.GetValueOrDefault(name);

    /// <summary>What a service is called on this host.</summary>
    public string LabelOf(IConnector instance, string service) =>
        service == instance.Id.Name || service.StartsWith(instance.Id.Name + " ", StringComparison.Ordinal) || instance == FirstWithSites()
            ? service
            : $"{service}@{instance.Id.Name}";

    private IConnector? FirstWithSites() => _byName.Values.FirstOrDefault(c => c.HasSites);

    /// <exception cref="BeaconProblem">There is none, or its server's configuration cannot be read.</exception>
    public ServiceRef Service(string label) => Named([label])[0];

    /// <summary>Several services, in the order of their labels: each server is asked once what it has.</summary>
    /// <exception cref="BeaconProblem">There is none of a label, or its server's configuration cannot be read.</exception>
    public IReadOnlyList<ServiceRef> Named(IReadOnlyList<string> labels)
    {
        var asked = new Dictionary<IConnector, (HashSet<string> Names, BeaconProblem? Fault)>();
        return [.. labels.Select(label => Named(label, Asked))];

        (HashSet<string> Names, BeaconProblem? Fault) Asked(IConnector c)
        {
            if (!asked.TryGetValue(c, out var known))
            {
                var found = Discover(c);
                asked[c] = known = ([.. found.Services.Select(s => s.Name)], found.Problem);
            }
            return known;
        }
    }

    private ServiceRef Named(string label, Func<IConnector, (HashSet<string> Names, BeaconProblem? Fault)> asked)
    {
        var at = label.LastIndexOf('@');
        var (name, candidates) =
            at > 0 && Find(label[(at + 1)..]) is { } named
                ? (label[..at], [named])
                : (label, _byName.Values.Where(c => LabelOf(c, label) == label).ToList());
        BeaconProblem? fault = null;
        foreach (var c in candidates)
        {
            var (names, problem) = asked(c);
            if (names.Contains(name))
                return new(c, name, label);
            fault ??= problem;
        }
        throw fault
            ?? new BeaconProblem(
                ProblemCode.NotFound,
                $"There is no service {label} on this host.",
                "See beacon service list; it may have been removed from the server's configuration."
            );
    }

    /// <summary>What is wrong with one server must not keep the others from being seen.</summary>
    public static Discovery Discover(IConnector c)
    {
        try
        {
            return c.Discover(c.Files);
        }
        catch (Exception e) when (e is not (OperationCanceledException or OutOfMemoryException))
        {
            return new(
                [],
                e as BeaconProblem
                    ?? new BeaconProblem(
                        ProblemCode.ConfigurationUnsupported,
                        $"The configuration of {c.Id} cannot be read: {e.Message}",
                        "Correct it, or report the message.",
                        e
                    )
            );
        }
    }

    /// <summary>Everything that is found, each service under its label.</summary>
    public IEnumerable<(IConnector Instance, FoundService Service)> Services() =>
        _byName.Values.SelectMany(c => Discover(c).Services.Select(s => (c, s with { Name = LabelOf(c, s.Name) })));
}
