using System.Security.Cryptography.X509Certificates;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.SimpleSamlPhp;
using OrderlyBeacon.Agent.Federation;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Keys;

namespace OrderlyBeacon.Agent.Tests.Federation;

/// <summary>A real provider is taken through the steps of its signing certificate's life; what partners get is asked by curl and read by openssl.</summary>
public sealed class FederationTests : IDisposable
{
    private static readonly CancellationToken Stop = CancellationToken.None;
    private readonly Scratch _scratch = new();
    private readonly PlayedProvider _provider = new();
    private readonly SwapBench _bench;
    private readonly SimpleSamlPhpConnector _server;

    public FederationTests()
    {
        File.SetUnixFileMode(_scratch.Path, File.GetUnixFileMode(_scratch.Path) | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute);
        var agent = Path.Combine(_scratch.Path, "agent");
        Directory.CreateDirectory(agent, AtomicFiles.PrivateFolder);
        _bench = new(agent);
        _server = new(
            new("simplesamlphp", "simplesamlphp", _provider.Config),
            new("simplesamlphp", "/usr/bin/php", _provider.Config, null) { MetadataAt = _provider.Address, AccessLog = _provider.Log }
        );
    }

    public void Dispose()
    {
        _provider.Dispose();
        _scratch.Dispose();
    }

    private StoreEntry Issue(KeySpec? key = null) => _bench.Issue("signing", key ?? KeySpec.Rsa2048, PlayedProvider.Name);

    private Task StepAsync(FederationAct act, StoreEntry entry, Action<string>? step = null) =>
        new FederationWork(_bench.Store, _bench.Journal, TimeProvider.System, step ?? _bench.Steps.Add).RunAsync(
            _bench.NextOrder(),
            _server,
            new(_server.Id.Name, PlayedProvider.Entity, act),
            entry,
            Stop
        );

    /// <summary>Subjects of the certificates that the metadata names for signatures, or serials.</summary>
    private List<string> Published() =>
        [
            .. _provider
                .Metadata()!
                .Split("<md:KeyDescriptor use=\"signing\">")[1..]
                .Select(d => d.Split("<ds:X509Certificate>")[1].Split('<')[0])
                .Select(d => X509CertificateLoader.LoadCertificate(Convert.FromBase64String(d)).SerialNumber.ToLowerInvariant()),
        ];

    private string Before() =>
        X509CertificateLoader.LoadCertificateFromFile(Path.Combine(_provider.Folder, "cert/signing.crt")).SerialNumber.ToLowerInvariant();

    private static string SerialOf(StoreEntry e) => e.File.Serial.ToLowerInvariant();

    [Fact]
    public async Task The_next_certificate_is_published_used_and_the_one_before_retired()
    {
        var (old, bytes, next) = (Before(), File.ReadAllBytes(_provider.Hosted), Issue());
        var found = Assert.Single(_server.Providers(_server.Files));
        Assert.Equal((PlayedProvider.Entity, null, null, 300), (found.Entity, found.Problem, found.Also, found.AssertionSeconds));
        Assert.Equal(_provider.MetadataUrl, found.Metadata);

        await StepAsync(FederationAct.Publish, next);
        Assert.Equivalent(new[] { SerialOf(next), old }, Published(), strict: true);
        Assert.Equal(next.File.Thumbprint, _server.Providers(_server.Files)[0].Also!.Thumbprint);
        await Again(FederationAct.Publish, next);
        // A step back, to the byte.
        await StepAsync(FederationAct.Withdraw, next);
        Assert.Equal(bytes, File.ReadAllBytes(_provider.Hosted));
        Assert.Equal([old], Published());
        await StepAsync(FederationAct.Publish, next);
        var published = File.ReadAllBytes(_provider.Hosted);

        await StepAsync(FederationAct.Sign, next);
        Assert.Equal(next.File.Thumbprint, _server.Providers(_server.Files)[0].Signs!.Thumbprint);
        Assert.Equal(2, Published().Count);
        await Again(FederationAct.Sign, next);
        await StepAsync(FederationAct.Publish, next);
        Assert.Equal(published, File.ReadAllBytes(_provider.Hosted));
        await StepAsync(FederationAct.Sign, next);

        await StepAsync(FederationAct.Retire, next);
        Assert.Equal([SerialOf(next)], Published());
        await Again(FederationAct.Retire, next);
        // Its key is read by PHP's account and by nobody else.
        var key = CertificateStore.OwnFilesOf(next, _server.Needs).Key;
        Assert.Equal("root:www-data:640", Programs.Run("stat", ["-c", "%U:%G:%a", key]).Output.Trim());
    }

    private async Task Again(FederationAct act, StoreEntry entry)
    {
        var bytes = File.ReadAllBytes(_provider.Hosted);
        await StepAsync(act, entry);
        Assert.Equal(bytes, File.ReadAllBytes(_provider.Hosted));
    }

    [Fact]
    public async Task What_was_never_published_is_not_signed_with()
    {
        var (bytes, next) = (File.ReadAllBytes(_provider.Hosted), Issue());
        foreach (var act in new[] { FederationAct.Sign, FederationAct.Retire })
            Assert.Equal(ProblemCode.WrongState, (await Assert.ThrowsAsync<BeaconProblem>(() => StepAsync(act, next))).Code);
        var ec = await Assert.ThrowsAsync<BeaconProblem>(() => StepAsync(FederationAct.Publish, Issue(KeySpec.P256)));
        Assert.Contains("RSA", ec.Message);
        // There is room for one beside: somebody else's is not thrown out.
        await StepAsync(FederationAct.Publish, next);
        var published = File.ReadAllBytes(_provider.Hosted);
        var other = await Assert.ThrowsAsync<BeaconProblem>(() => StepAsync(FederationAct.Publish, Issue()));
        Assert.Contains("room for one", other.Message);
        Assert.Equal(published, File.ReadAllBytes(_provider.Hosted));
        Assert.NotEqual(bytes, published);
    }

    private sealed class Killed : Exception;

    [Theory]
    [InlineData(FederationAct.Publish)]
    [InlineData(FederationAct.Sign)]
    [InlineData(FederationAct.Retire)]
    public async Task A_kill_at_any_step_is_undone(FederationAct act)
    {
        var next = Issue();
        foreach (var earlier in new[] { FederationAct.Publish, FederationAct.Sign }.TakeWhile(a => a != act))
            await StepAsync(earlier, next);
        var (bytes, published) = (File.ReadAllBytes(_provider.Hosted), Published());
        var kills = 0;
        for (var at = 1; ; at++, kills++)
        {
            var left = at;
            AtomicFiles.Before.Value = _ =>
            {
                if (--left == 0)
                    throw new Killed();
            };
            try
            {
                await StepAsync(act, next);
                break;
            }
            catch (Killed) { }
            finally
            {
                AtomicFiles.Before.Value = null;
            }
            await _bench.Swap.RecoverAsync(_ => _server, Stop);
            Assert.Equal(bytes, File.ReadAllBytes(_provider.Hosted));
            Assert.Empty(_bench.Journal.Unfinished());
        }
        Assert.True(kills > 1, $"only {kills} places to be killed at");
        Assert.NotEqual(bytes, File.ReadAllBytes(_provider.Hosted));
        Assert.NotEmpty(published);
    }

    [Fact]
    public async Task What_partners_do_not_get_is_put_back()
    {
        var (bytes, next) = (File.ReadAllBytes(_provider.Hosted), Issue());
        // PHP reads another copy of the folder than the one that the agent was told of.
        var elsewhere = Path.Combine(_provider.Folder, "elsewhere");
        Programs.Run("cp", ["-a", Path.Combine(_provider.Folder, "metadata"), elsewhere]);
        var config = Path.Combine(_provider.Config, "config.php");
        var said = File.ReadAllText(config);
        File.WriteAllText(config, said.Replace($"'{_provider.Folder}/metadata'", $"'{elsewhere}'"));
        await Task.Delay(3000, Stop);
        var blind = new SimpleSamlPhpConnector(
            new("simplesamlphp", "simplesamlphp", Path.Combine(_scratch.Path, "config")),
            new("simplesamlphp", "/usr/bin/php", Path.Combine(_scratch.Path, "config"), null) { MetadataAt = _provider.Address }
        );
        Directory.CreateDirectory(Path.Combine(_scratch.Path, "config"));
        File.WriteAllText(Path.Combine(_scratch.Path, "config/config.php"), said);
        var work = new FederationWork(_bench.Store, _bench.Journal, TimeProvider.System, _ => { });
        var p = await Assert.ThrowsAsync<BeaconProblem>(() =>
            work.RunAsync(9000, blind, new("simplesamlphp", PlayedProvider.Entity, FederationAct.Publish), next, Stop)
        );
        Assert.Equal(ProblemCode.SwapUndone, p.Code);
        Assert.EndsWith("Everything is as it was.", p.Message);
        Assert.Equal(bytes, File.ReadAllBytes(_provider.Hosted));
    }

    [Fact]
    public async Task Who_fetches_the_metadata_is_counted_once_it_is_published()
    {
        var book = new FetchBook(Path.Combine(_scratch.Path, "agent"), TimeProvider.System);
        FoundProvider Counted() => book.Count(_server, _server.Providers(_server.Files)[0]);
        _provider.Metadata("127.0.0.61");
        Assert.Empty(Counted().Fetches);
        await StepAsync(FederationAct.Publish, Issue());
        var began = Counted();
        Assert.Null(began.NotCounted);
        // What PHP may have kept from before does not count, and neither do the agent's own.
        _provider.Metadata("127.0.0.62");
        await Task.Delay(5500, Stop);
        _provider.Metadata("127.0.0.63");
        _provider.Metadata("127.0.0.63");
        await _server.PublishedAsync(PlayedProvider.Entity, Stop);
        Assert.Equal("127.0.0.63", Assert.Single(Counted().Fetches).Address);
        // The log is turned over, after somebody had come.
        _provider.Metadata("127.0.0.64");
        File.Move(_provider.Log, _provider.Log + ".1");
        Programs.Run("kill", ["-USR1", File.ReadAllText(Path.Combine(_provider.Folder, "nginx.pid")).Trim()]);
        Assert.True(SpinWait.SpinUntil(() => File.Exists(_provider.Log), 5000));
        _provider.Metadata("127.0.0.65");
        Assert.Equal(["127.0.0.63", "127.0.0.64", "127.0.0.65"], Counted().Fetches.Select(f => f.Address));
        Assert.Equal(began.Since, Counted().Since);
    }
}
