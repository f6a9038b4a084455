using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Postfix;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>Names that a Postfix has certificates of their own for: each is a service, and the table that the server reads is built along with every swap.</summary>
public sealed class PostfixNamesTests : IDisposable
{
    private const string Old = "post.thistledown.example";
    private readonly PostfixServer _server = new();
    private readonly string _source;

    public PostfixNamesTests()
    {
        _source = Path.Combine(_server.ConfigFolder, "names");
        _server.Configure(_server.ForeignPair());
        var bundle = Bundle("old", Old);
        File.WriteAllText(_source, $"# who asks for it\n{Old}\n  {bundle}\n.depot.example {bundle}\n");
        File.SetUnixFileMode(_source, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        File.AppendAllText(_server.MainFile, $"tls_server_sni_maps = hash:$config_directory/names\n");
        Assert.Equal(0, Programs.Run("/usr/sbin/postmap", ["-F", $"hash:{_source}"]).Code);
        _server.Start();
    }

    public void Dispose() => _server.Dispose();

    private string Bundle(string file, string name)
    {
        var (certificate, key) = (Path.Combine(_server.Folder, file + ".pem"), Path.Combine(_server.Folder, file + ".key"));
        Programs.OpenSsl(
            $"req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {key} -out {certificate} -days 30 -subj /CN={name} -addext subjectAltName=DNS:{name}"
        );
        var bundle = Path.Combine(_server.Folder, file + ".both");
        File.WriteAllText(bundle, File.ReadAllText(key) + File.ReadAllText(certificate));
        File.SetUnixFileMode(bundle, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        return bundle;
    }

    private ServiceRef Ref => new(_server.Connector, $"postfix {Old}", $"postfix {Old}");

    private IEnumerable<string?> Served(string name) =>
        _server.Doors.Select(d => SwapBench.Served(_server.Address, d.Port, name, d.StartTls));

    /// <summary>The text alone: what it was built to differs in the order of its pages.</summary>
    private (string Text, string Main) Configuration() => (File.ReadAllText(_source), File.ReadAllText(_server.MainFile));

    [Fact]
    public async Task A_name_is_bound_renewed_and_put_back_and_the_others_stay()
    {
        var services = _server.Connector.Discover(_server.Connector.Files).Services;
        Assert.Equal(["postfix", $"postfix {Old}", "postfix *.depot.example"], services.Select(s => s.Name));
        Assert.Equal([$"{_source}:2"], services[1].Places);
        var before = Configuration();
        var (main, old) = (Served(_server.Name).ToList(), Served(Old).ToList());
        Assert.NotEqual(main[0], old[0]);

        var entry = _server.Bench.Issue("post", Old);
        await _server.Bench.BindAsync(entry, null, Ref);
        Assert.All(Served(Old), s => Assert.Equal(entry.File.Serial, s));
        Assert.Equal(main, Served(_server.Name));
        Assert.Equal(old, Served("any.depot.example"));
        Assert.Equal("600", Programs.Run("stat", ["-c", "%a", _source + ".db"]).Output.Trim());
        var bound = Configuration();
        using var open = await _server.TalkAsync();
        var next = _server.Bench.Issue("post", Old);
        await _server.Bench.BindAsync(next, null, Ref);
        await open.GoOnAsync();
        Assert.All(Served(Old), s => Assert.Equal(next.File.Serial, s));
        Assert.Equal(bound, Configuration());
        // The certificate of all other names changes beside it.
        var all = _server.Bench.Issue("mail", _server.Name);
        await _server.BindAsync(all);
        Assert.All(Served(_server.Name), s => Assert.Equal(all.File.Serial, s));
        Assert.All(Served(Old), s => Assert.Equal(next.File.Serial, s));
        await _server.Bench.Swap.UnbindAsync(7000, _server.Ref, TestContext.Current.CancellationToken);
        await _server.Bench.Swap.UnbindAsync(7001, Ref, TestContext.Current.CancellationToken);
        Assert.Equal(before, Configuration());
        Assert.Equal(main, Served(_server.Name));
        Assert.Equal(old, Served(Old));
    }

    [Fact]
    public async Task What_goes_wrong_leaves_the_old_one_served()
    {
        var (before, old) = (Configuration(), Served(Old).ToList());
        var entry = _server.Bench.Issue("post", Old);
        var faults = 0;
        for (var at = 1; at < 100; at++)
        {
            var left = at;
            AtomicFiles.Before.Value = _ =>
            {
                if (--left == 0)
                    throw new IOException("No space left on device");
            };
            try
            {
                await _server.Bench.BindAsync(entry, null, Ref);
                break;
            }
            catch (Exception e) when (e is IOException or BeaconProblem) { }
            finally
            {
                AtomicFiles.Before.Value = null;
            }
            faults++;
            await _server.Bench.Swap.RecoverAsync(_ => _server.Connector, TestContext.Current.CancellationToken);
            Assert.Equal((at, before), (at, Configuration()));
            Assert.Equal(old, Served(Old));
        }
        Assert.True(faults > 4, $"only {faults} places");
        Assert.All(Served(Old), s => Assert.Equal(entry.File.Serial, s));
    }

    [Fact]
    public void What_is_not_clear_is_refused_by_name()
    {
        var connector = (PostfixConnector)_server.Connector;
        var used = new UsedFiles("/s/in-use/p/bundle/key-first.pem", "/s/in-use/p/bundle/key-first.pem");
        BeaconProblem Refused(string service) =>
            Assert.Throws<BeaconProblem>(() => connector.PlanBinding(new(service, used, null, [Old]), connector.Files));
        Assert.Contains("is in no table", Refused("postfix other.example").Message);
        File.WriteAllText(_source, $"{Old} /a.pem, /b.pem\n");
        Assert.Contains("has several files", Refused($"postfix {Old}").Message);
        var lowest = Assert.Throws<BeaconProblem>(() => connector.PlanLowest($"postfix {Old}", Contracts.LowestTls.Tls13, connector.Files));
        Assert.Contains("Order it for postfix", lowest.Cure);
        // A table that would not build is said before anything is changed.
        var would = new Overlay(connector.Files);
        would.Add([new(_source, File.ReadAllText(_source), $"{Old} /b.pem\n")]);
        Assert.Contains("/b.pem", Assert.Throws<BeaconProblem>(() => connector.Test(would)).Message);
        // What others have half written holds up neither the server's own certificate nor its finding.
        connector.Test(connector.Files);
        File.WriteAllText(_source, $"{Old}\n");
        var found = connector.Discover(connector.Files);
        Assert.Null(found.Problem);
        Assert.Equal(["postfix"], found.Services.Select(s => s.Name));
    }

    [Fact]
    public async Task A_table_that_others_have_half_written_holds_nothing_up()
    {
        var old = Served(Old).ToList();
        File.WriteAllText(_source, $"{Old} /nowhere.pem\n");
        File.SetLastWriteTimeUtc(_source, DateTime.UtcNow.AddSeconds(5));
        var entry = _server.Bench.Issue("mail", _server.Name);
        await _server.BindAsync(entry);
        Assert.All(Served(_server.Name), s => Assert.Equal(entry.File.Serial, s));
        Assert.Equal(old, Served(Old));
    }
}
