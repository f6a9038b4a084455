using System.Security.Cryptography;
using OrderlyBeacon.Agent.Federation;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Agent.Connectors.SimpleSamlPhp;

/// <summary>
/// A SimpleSAMLphp as identity provider: PHP files that each request reads anew. Its TLS side is that of the web server before it; here is what it signs with and publishes.
/// </summary>
internal sealed class SimpleSamlPhpConnector(InstanceId id, ConnectorSettings settings) : IFederation
{
    private const string Programs = "/usr/share/simplesamlphp",
        HostedFile = "saml20-idp-hosted.php",
        PartnersFile = "saml20-sp-remote.php",
        MetadataPage = "saml2/idp/metadata.php";
    private const int MostPartners = 1000,
        MostProviders = 50;

    public InstanceId Id => id;

    public bool HasSites => false;

    /// <exception cref="BeaconProblem">Nobody knows as whom PHP reads the key.</exception>
    public Needs Needs => new(StoreForm.Pair, Reader());

    public IFiles Files { get; } = new HostFiles();

    public string? AccessLog => settings.AccessLog;

    private string ConfigFile => Path.Combine(Path.GetFullPath(settings.Config), "config.php");

    public Discovery Discover(IFiles files) => Discovery.Of(() => []);

    public ChangeSet PlanBinding(BindChange change, IFiles files) =>
        throw new BeaconProblem(
            ProblemCode.ConfigurationUnsupported,
            "A provider's signing certificate is not bound: its partners have to know the next one first.",
            "Give it a certificate to sign with: beacon federation sign-with."
        );

    private PhpValue Config(IFiles files)
    {
        var php = PhpArrays.Read(ConfigFile, files.Read(ConfigFile));
        return php.Assignments.LastOrDefault(a => a is { Variable: "config", Index: null })?.Value
            ?? throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"{ConfigFile}: there is no $config = [ … ] in it.",
                "Name the folder with the provider's config.php in agent.json."
            );
    }

    private static string Setting(PhpValue config, string key, string usual) =>
        Path.Combine(Programs, config.Find(key) is { Value.Text: { } said } ? ByteText.Show(said) : usual);

    private string HostedPath(PhpValue config) => Path.Combine(Setting(config, "metadatadir", "metadata"), HostedFile);

    private List<HostedProvider> Hosted(IFiles files)
    {
        var path = HostedPath(Config(files));
        var text = files.Read(path);
        var php = PhpArrays.Read(path, text);
        if (php.HasOther)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{path}: there is more in it than $metadata['…'] = […]: what counts is decided when PHP runs.",
                "Write its providers there as plain arrays."
            );
        var all = php
            .Assignments.Where(a => a is { Variable: HostedProvider.Variable, Index: not null })
            .Select(a => new HostedProvider(path, text, a.Index!, a.Value, a.Line))
            .Take(MostProviders)
            .ToList();
        if (all.GroupBy(p => p.Entity).FirstOrDefault(g => g.Count() > 1) is { } twice)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{path}: the provider {twice.Key} stands there twice.",
                "Take out the one that does not count: PHP goes by the last."
            );
        return all;
    }

    private HostedProvider One(string entity, IFiles files) =>
        Hosted(files).Find(p => ByteText.Show(p.Entity) == entity)
        ?? throw new BeaconProblem(
            ProblemCode.NotFound,
            $"There is no provider {entity} in {HostedPath(Config(files))}.",
            "See beacon federation list."
        );

    public IReadOnlyList<FoundProvider> Providers(IFiles files)
    {
        try
        {
            var config = Config(files);
            var (partners, hosted) = (Partners(config, files), Hosted(files));
            return [.. hosted.Select(p => Describe(p, config, partners))];
        }
        catch (BeaconProblem p)
        {
            return [new(Id.Name, Id.Name, "", ConfigFile, null, null, [], Of(p))];
        }
    }

    private static ProblemInfo Of(BeaconProblem p) => new(p.Slug, p.Message, p.Cure);

    private FoundProvider Describe(HostedProvider p, PhpValue config, IReadOnlyList<string> partners)
    {
        var problem = p.Unclear;
        SigningCertificate? Read(string? file)
        {
            try
            {
                return file is null ? null : Info(Certificate(config, file));
            }
            catch (BeaconProblem x)
            {
                problem ??= x;
                return null;
            }
        }
        var (signs, also) = (Read(p.SignsFile), Read(p.AlsoFile));
        var metadata = "";
        try
        {
            metadata = MetadataUrl(config, ByteText.Show(p.Entity)).ToString();
        }
        catch (BeaconProblem x)
        {
            problem ??= x;
        }
        return new(Id.Name, ByteText.Show(p.Entity), metadata, p.Place, signs, also, partners, problem is null ? null : Of(problem))
        {
            AssertionSeconds = p.AssertionSeconds,
        };
    }

    private static SigningCertificate Info(X509 x) => new(x.Thumbprint.Hex, x.Subject.ToString(), x.Serial.Hex, x.NotAfter);

    private X509 Certificate(PhpValue config, string file)
    {
        var path = Path.Combine(Setting(config, "certdir", "cert"), ByteText.Show(file));
        return X509.Read(Armor.Read(ByteText.Bytes(Files.Read(path))).Blocks[0].Der);
    }

    private static IReadOnlyList<string> Partners(PhpValue config, IFiles files)
    {
        var path = Path.Combine(Setting(config, "metadatadir", "metadata"), PartnersFile);
        if (files.Find(path) is not { } text)
            return [];
        return
        [
            .. PhpArrays
                .Read(path, text)
                .Assignments.Where(a => a is { Variable: HostedProvider.Variable, Index: not null })
                .Select(a => ByteText.Show(a.Index!))
                .Distinct()
                .Take(MostPartners),
        ];
    }

    /// <summary>The account that reads the key now: that of its file, or of the folder with its metadata.</summary>
    private ServerAccount? Reader()
    {
        var config = Config(Files);
        if (settings.Account is { } named)
            return ServerAccount.Of(named);
        foreach (var p in Hosted(Files))
            if (
                p.SignsKey is { } key
                && ServerAccount.OwnerOf(Path.Combine(Setting(config, "certdir", "cert"), ByteText.Show(key))) is { } owner
            )
                return owner;
        return ServerAccount.OwnerOf(HostedPath(config))
            ?? throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                "As whom PHP reads the provider's key cannot be seen: its files belong to the agent's own account.",
                "Name the account in agent.json (\"account\"), usually www-data."
            );
    }

    public ChangeSet PlanStep(FederationChange change, IFiles files)
    {
        var provider = One(change.Entity, files);
        var config = Config(files);
        bool Is(string? file) => file is not null && Certificate(config, file).Thumbprint.Hex == change.Thumbprint;
        if (provider.Unclear is { } unclear)
            throw unclear;
        var (edits, steps) = provider.Plan(change, Is(provider.SignsFile), Is(provider.AlsoFile));
        return new(change.Entity, [change.Entity], TextEdits.Apply(edits, files.Read), [], [], steps, []);
    }

    public void Test(IFiles files, ReadInstead? instead = null)
    {
        foreach (var path in new[] { ConfigFile, HostedPath(Config(files)) })
            Lint(path, files.Read(path), ReferenceEquals(files, Files));
    }

    private void Lint(string path, string text, bool isNow)
    {
        using var staged = StagedCopy.For(null, Path.GetFileName(path), text);
        var (code, output, error) = ServerProcess.Run(settings.Binary, "-n", "-d", "display_errors=1", "-l", staged.Path);
        if (code == 0)
            return;
        var complaint =
            (output + error).Split('\n').FirstOrDefault(l => l.Contains(" error", StringComparison.Ordinal)) ?? $"it ended with {code}";
        throw TestProblem.Of("PHP", complaint.Trim().Replace(staged.Path, path, StringComparison.Ordinal), isNow, $"php -l {path}");
    }

    // PHP is run by the server before it; whether that runs is seen by the metadata.
    public bool IsRunning() => true;

    // Each request reads the files; what PHP keeps of them it compares with their dates every two seconds.
    public void TakeUp() { }

    public bool IsSettled() => true;

    public void Start() { }

    public string? LastComplaint(DateTimeOffset since) => null;

    private Uri MetadataUrl(PhpValue config, string entity)
    {
        var said =
            settings.Metadata
            ?? (config.Find("baseurlpath") is { Value.Text: { } b } ? ByteText.Show(b).TrimEnd('/') + "/" + MetadataPage : "");
        if (!Uri.TryCreate(said, UriKind.Absolute, out var url) || url.Scheme is not ("https" or "http"))
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{ConfigFile}: baseurlpath does not say where partners get the metadata.",
                "Write it as https://NAME/PATH/, or name the address in agent.json (\"metadata\")."
            );
        return entity.StartsWith("__", StringComparison.Ordinal) || Hosted(Files).Count < 2
            ? url
            : new($"{url}?idpentityid={Uri.EscapeDataString(entity)}");
    }

    public string MetadataPath(string entity) => MetadataUrl(Config(Files), entity).AbsolutePath;

    public Task<IReadOnlyList<Thumbprint>> PublishedAsync(string entity, CancellationToken ct)
    {
        var config = Config(Files);
        var at = settings.MetadataAt is { } address ? address : null;
        return MetadataFile.FetchAsync(MetadataUrl(config, entity), at, ct);
    }
}
