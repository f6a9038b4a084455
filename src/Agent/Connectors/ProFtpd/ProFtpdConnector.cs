using System.Text.RegularExpressions;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Connectors.ProFtpd;

/// <summary>
/// A real ProFTPD that runs by itself: it has settings of their own for each kind of key, wants the chain in a third, and reads all of it anew at SIGHUP; transfers go on.
/// </summary>
internal sealed partial class ProFtpdConnector(InstanceId id, ConnectorSettings settings) : IConnector, ILimitsVersions
{
    private const string Program = "proftpd",
        Engine = "tlsengine",
        Chain = "tlscertificatechainfile";
    private const int UsualPort = 21,
        UsualImplicitPort = 990;

    private readonly LogTail _log = new();

    public InstanceId Id => id;

    public bool HasSites => false;

    // The first process reads them as root.
    public Needs Needs { get; } = new(StoreForm.Pair);

    public IFiles Files { get; } = new HostFiles();

    private ProFtpdConfiguration Load(IFiles files) => ProFtpdConfiguration.Load(settings.Config, files);

    private IReadOnlyList<string> Names => settings.Names ?? [settings.Host];

    private static string CertificateOf(KeyAlgorithm kind) => kind == KeyAlgorithm.Rsa ? "TLSRSACertificateFile" : "TLSECCertificateFile";

    private static string KeyOf(KeyAlgorithm kind) => kind == KeyAlgorithm.Rsa ? "TLSRSACertificateKeyFile" : "TLSECCertificateKeyFile";

    public Discovery Discover(IFiles files) => Discovery.Of(() => [Describe(Load(files))]);

    private static WordLine? Certificate(ProFtpdConfiguration c) =>
        c.Find(CertificateOf(KeyAlgorithm.Ec).ToLowerInvariant()) ?? c.Find(CertificateOf(KeyAlgorithm.Rsa).ToLowerInvariant());

    private static bool HasTls(ProFtpdConfiguration c) => c.HasTlsModule && c.IsOn(Engine) && Certificate(c) is not null;

    private FoundService Describe(ProFtpdConfiguration c) =>
        new(
            Id.Kind,
            Id.Name,
            Names,
            Endpoints(c),
            [Certificate(c)?.Place ?? c.Main],
            HasTls(c) ? ByteText.Show(Certificate(c)!.At(1)!) : null,
            null,
            []
        )
        {
            NamesAreAssumed = settings.Names is null,
        };

    private static IReadOnlyList<EndpointInfo> Endpoints(ProFtpdConfiguration c)
    {
        var isImplicit = c.Find("tlsoptions")?.Words.Any(w => w.Value == "UseImplicitSSL") ?? false;
        var usual = isImplicit ? UsualImplicitPort : UsualPort;
        var port = int.TryParse(c.Value("port"), out var set) ? set : usual;
        var tls = HasTls(c);
        return port == 0
            ? []
            :
            [
                new EndpointInfo(c.Value("defaultaddress") ?? "127.0.0.1", port, tls)
                {
                    Protocol = isImplicit && tls ? ProbeProtocol.Tls : ProbeProtocol.Ftp,
                }.ReadsIf(!tls || !isImplicit && !IsRequired(c), Exposed.FilesAndLogins),
            ];
    }

    public ChangeSet PlanBinding(BindChange change, IFiles files)
    {
        var c = Load(files);
        ThrowIfUnclear(c);
        var edits = new List<TextEdit>();
        var added = new List<string>();
        var steps = new List<string>();
        var other = change.Key == KeyAlgorithm.Rsa ? KeyAlgorithm.Ec : KeyAlgorithm.Rsa;
        Set(CertificateOf(change.Key), CertificateOf(other), ConfigurationWords.Quoted(change.Files.Certificates));
        Set(KeyOf(change.Key), KeyOf(other), ConfigurationWords.Quoted(change.Files.Key));
        Set("TLSCertificateChainFile", null, ConfigurationWords.Quoted(change.Files.Certificates));
        if (!c.IsOn(Engine))
            Set("TLSEngine", null, "on");
        if (added.Count > 0)
            edits.Add(TextEdits.Append(files, c.Main, added));
        var would = new Overlay(files);
        would.Add(TextEdits.Apply(edits, files.Read));
        var after = Endpoints(Load(would));
        var asked = change.CertificateNames.Count > 0 ? change.CertificateNames[0] : settings.Host;
        return new(
            change.Service,
            Names,
            would.Edits,
            [.. after.Select(e => new Probe(e.Address, e.Port, asked, e.Protocol))],
            [],
            steps.Count > 0 ? steps : ["The configuration names the certificate already; nothing in it changes."],
            after.Any(e => e.ClearText == true) ? ["Clients may go on without TLS; TLSRequired on ends that when they are ready."] : []
        )
        {
            NamesAreAssumed = settings.Names is null,
        };

        void Set(string name, string? instead, string value)
        {
            if (c.Find(name.ToLowerInvariant()) is { } there)
            {
                if (there.At(1) == value.Trim('"'))
                    return;
                edits.Add(new(there.Path, there.Words[1].Start, there.Words[1].End, value));
                steps.Add($"{name} ({there.Place}) {(name == "TLSEngine" ? "is switched on" : "points to the store")}.");
            }
            else if (instead is not null && c.Find(instead.ToLowerInvariant()) is { } former)
            {
                // The line becomes the one for this kind of key: a certificate of the other kind would be refused in it.
                edits.Add(new(former.Path, former.Words[0].Start, former.Words[1].End, $"{name} {value}"));
                steps.Add($"{instead} ({former.Place}) becomes {name}, for the other kind of key, and points to the store.");
            }
            else
            {
                added.Add($"{name} {value}");
                steps.Add($"{name} is added to {c.Main}.");
            }
        }
    }

    private static bool IsRequired(ProFtpdConfiguration c) =>
        c.Value("tlsrequired")?.ToLowerInvariant() is "on" or "auth+data" or "ctrl+data";

    public ChangeSet PlanRequireTls(string service, IFiles files)
    {
        var c = Load(files);
        ThrowIfUnclear(c);
        var there = c.Find("tlsrequired");
        var edit = there is null
            ? TextEdits.Append(files, c.Main, ["TLSRequired on"])
            : new(there.Path, there.Words[1].Start, there.Words[1].End, "on");
        return ChangeSet.RequiringTls(
            service,
            TextEdits.Apply([edit], files.Read),
            [$"TLSRequired on ({there?.Place ?? c.Main}): for logins and for files."],
            "Clients that have no TLS switched on cannot log in any more."
        );
    }

    public ChangeSet PlanLowest(string service, LowestTls lowest, IFiles files)
    {
        const string Setting = "TLSProtocol";
        var c = Load(files);
        ThrowIfUnclear(c);
        var versions = VersionWords.From(lowest);
        var edit = c.Find(Setting.ToLowerInvariant()) is { } there
            ? new(there.Path, there.Words[1].Start, there.Words[^1].End, versions)
            : TextEdits.Append(files, c.Main, [$"{Setting} {versions}"]);
        return ChangeSet.RequiringTls(service, TextEdits.Apply([edit], files.Read), [$"{Setting} {versions} ({edit.Path})."]);
    }

    private static void ThrowIfUnclear(ProFtpdConfiguration c)
    {
        if (!c.HasTlsModule)
            throw Unclear(
                "ProFTPD has not loaded its module for TLS.",
                "Load it (LoadModule mod_tls.c), restart ProFTPD, then bind again."
            );
        if (c.TlsOfVirtualHost is { } own)
            throw Unclear($"A virtual host has TLS settings of its own ({own.Place}).", "Bind this server by hand.");
        if (
            c.Find(CertificateOf(KeyAlgorithm.Ec).ToLowerInvariant()) is { } ec
            && c.Find(CertificateOf(KeyAlgorithm.Rsa).ToLowerInvariant()) is { } rsa
        )
            throw Unclear(
                $"It has a certificate for each kind of key ({rsa.Place} and {ec.Place}): clients would go on meeting the other.",
                "Take one of them out with its key, then bind again."
            );
        if ((c.Find("tlspkcs12file") ?? c.Find("tlsdsacertificatefile")) is { } form)
            throw Unclear($"{form.Words[0].Value} ({form.Place}) is a form that is not changed.", "Take it out, then bind again.");
        if (c.Value("servertype")?.Equals("inetd", StringComparison.OrdinalIgnoreCase) ?? false)
            throw Unclear(
                "It is started by another program for each connection (ServerType inetd).",
                "Let it run by itself (ServerType standalone), then bind again."
            );
    }

    private static BeaconProblem Unclear(string message, string cure) => new(ProblemCode.ConfigurationUnsupported, message, cure);

    public void Test(IFiles files, ReadInstead? instead = null)
    {
        var (text, origins) = Load(files).Flat;
        if (instead is { } i)
            text = i.In(text);
        using var staged = StagedCopy.Beside(settings.Config, text);
        var (code, output, error) = ServerProcess.Run(settings.Binary, "-t", "-c", staged.Path);
        var said = (output + error).Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        var complaint =
            said.FirstOrDefault(l => l.Contains("fatal", StringComparison.Ordinal))
            ?? said.FirstOrDefault(l => l.Contains(": expected ", StringComparison.Ordinal));
        if (code == 0 && complaint is null)
            return;
        var words = Place()
            .Replace(
                Stamp().Replace(complaint ?? said.LastOrDefault() ?? $"it ended with {code}", ""),
                m =>
                    int.Parse(m.Groups[1].Value) is var n && n >= 1 && n <= origins.Count
                        ? $"on line {origins[n - 1].Line} of {origins[n - 1].File}"
                        : m.Value
            );
        throw TestProblem.Of("ProFTPD", words, ReferenceEquals(files, Files), $"proftpd -t -c {settings.Config}");
    }

    private ProFtpdConfiguration? Current()
    {
        try
        {
            return Load(Files);
        }
        catch (BeaconProblem)
        {
            return null;
        }
    }

    private string PidFile() => Current()?.Value("pidfile") ?? "/var/run/proftpd.pid";

    private int? Pid() => ServerProcess.Find(PidFile(), Program);

    public bool IsRunning() => Pid() is not null;

    public void TakeUp()
    {
        var pid = Pid() ?? throw new BeaconProblem(ProblemCode.ServerDied, "ProFTPD is not running.", "Start it, then try again.");
        _log.Mark(Current()?.Value("tlslog"));
        ServerProcess.Signal(pid, ServerProcess.SigHup, "ProFTPD");
    }

    // It sleeps for a while after the signal, keeping further ones out at first, and then reads: it has read when it waits for clients again.
    public bool IsSettled() =>
        Pid() is not { } pid || !ServerProcess.IsAtWork(pid, ServerProcess.SigHup) && ServerProcess.WaitsForClients(pid);

    public void Start()
    {
        ServerProcess.ForgetEnded(PidFile());
        var (code, output, error) = ServerProcess.Run(settings.Binary, "-c", settings.Config);
        ServerProcess.WaitUntil(() => IsRunning() || code != 0);
        if (!IsRunning())
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"ProFTPD does not start: {Stamp().Replace((output + error).Split('\n', StringSplitOptions.RemoveEmptyEntries).LastOrDefault() ?? $"it ended with {code}", "")}.",
                "Look into its log and start it by hand."
            );
    }

    public string? LastComplaint(DateTimeOffset since) =>
        _log.Lines()
            .Where(l => l.Contains("unable to", StringComparison.Ordinal) || l.Contains("does not match", StringComparison.Ordinal))
            .Select(l => Stamp().Replace(l, ""))
            .FirstOrDefault();

    [GeneratedRegex(@"on line (\d+) of '\S+'")]
    private static partial Regex Place();

    [GeneratedRegex(@"^[-\d]+ [:,\d]+ \S+ ?(?:proftpd)?(?:\[\d+\])?:?\s*")]
    private static partial Regex Stamp();
}
