using System.Net;
using System.Net.Sockets;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Orders;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Tests;

/// <summary>What is done twice, what is odd on a host, and what several servers share: the agent goes on.</summary>
public sealed class AgainTests
{
    [Fact]
    public void An_order_that_is_done_again_finds_the_edition_that_it_brought()
    {
        using var n = new RealNginx("server { listen ADDR:8080; server_name a.example; }\n");
        var first = n.Issue("a.example", "a.example");
        Assert.Equal(first.File.Serial, n.Store.OfOrder(first.File.Order)!.File.Serial);
        Assert.Null(n.Store.OfOrder(first.File.Order + 1));
    }

    [Fact]
    public async Task A_store_of_an_earlier_form_stays_valid_and_moves_over_at_the_next_swap()
    {
        using var n = new RealNginx("server {\n    listen ADDR:8080;\n    server_name a.example;\n    root WWW;\n}\n").Start();
        var before = File.ReadAllText(n.SitePath);
        var first = n.Issue("a.example", "a.example");
        await n.BindAsync(first, "a.example");
        var store = Path.Combine(n.Folder, "store");
        var (live, inUse) = (Path.Combine(store, "live", "a.example"), n.Store.InUseLink("a.example"));

        // As version 0.1 left it: other names, another link, and a configuration that names them.
        File.Move(first.KeyPath, Path.Combine(first.Folder, "key.pem"));
        File.Move(first.ChainPath, Path.Combine(first.Folder, "chain.pem"));
        Directory.Delete(Path.Combine(first.Folder, "pair"));
        AtomicFiles.Link(live, AtomicFiles.LinkTarget(inUse)!);
        File.Delete(inUse);
        var bound = File.ReadAllText(n.SitePath);
        File.WriteAllText(
            n.SitePath,
            bound.Replace($"{inUse}/pair/certificates.pem", $"{live}/chain.pem").Replace($"{inUse}/pair/key.pem", $"{live}/key.pem")
        );
        n.Bounds.Keep(new("a.example", "a.example", null) { AddedListeners = [$"{n.Address}:8443 ssl"] });
        n.Connector.Test(n.Connector.Files);

        // Twice: a start that is cut off is followed by another.
        n.Store.TakeOverEarlier();
        n.Store.TakeOverEarlier();
        n.Connector.Test(n.Connector.Files);
        Assert.Equal(first.File.Serial, n.Store.InUse("a.example")!.File.Serial);
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(Path.Combine(first.Folder, "pair", "key.pem")));
        Assert.Equal(File.ReadAllText(first.KeyPath), File.ReadAllText(Path.Combine(live, "key.pem")));

        // The next swap configures today's names; who still reads the earlier ones is served the new edition too.
        var second = n.Issue("a.example", "a.example");
        await n.BindAsync(second, "a.example");
        Assert.Equal(second.File.Serial, n.Served("a.example"));
        Assert.Equal(bound, File.ReadAllText(n.SitePath));
        Assert.Equal(File.ReadAllText(second.ChainPath), File.ReadAllText(Path.Combine(live, "chain.pem")));
        await n.Swap.UnbindAsync(5000, n.Service("a.example"), TestContext.Current.CancellationToken);
        Assert.Equal(before, File.ReadAllText(n.SitePath));
    }

    [Fact]
    public void Services_whose_names_look_alike_as_files_keep_their_own_memory()
    {
        using var s = new Scratch();
        var book = new BoundBook(s.Path);
        string[] names = ["*.a.example", "_.a.example", "a.example", "any:8080", "any_8080"];
        foreach (var name in names)
            book.Keep(new BoundRecord(name, "cert of " + name, []));
        Assert.All(names, name => Assert.Equal("cert of " + name, book.Find(name)!.Certificate));
        book.Forget("*.a.example");
        Assert.Null(book.Find("*.a.example"));
        Assert.NotNull(book.Find("_.a.example"));
    }

    [Fact]
    public void A_memory_of_an_earlier_version_is_found_by_whom_it_is_of_alone()
    {
        using var s = new Scratch();
        var book = new BoundBook(s.Path);
        book.Keep(new BoundRecord("*.a.example", "old", null) { AddedListeners = [] });
        var written = Directory.GetFiles(Path.Combine(s.Path, "bound")).Single();
        File.Move(written, Path.Combine(s.Path, "bound", "_.a.example.json"));
        Assert.Equal("old", book.Find("*.a.example")!.Certificate);
        Assert.Null(book.Find("_.a.example"));
        book.Forget("*.a.example");
        Assert.Empty(Directory.GetFiles(Path.Combine(s.Path, "bound")));
    }

    [Fact]
    public async Task A_listener_that_is_given_by_name_is_looked_at()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var port = ((IPEndPoint)listener.LocalEndpoint).Port;
        var ct = TestContext.Current.CancellationToken;
        Assert.Equal(LookOutcome.PlainOnly, (await TlsProbe.KnockAsync("localhost", port, "a.example", TimeProvider.System, ct)).Outcome);
        listener.Stop();
        var gone = await TlsProbe.KnockAsync("localhost", port, "a.example", TimeProvider.System, ct);
        Assert.Equal((LookOutcome.NoAnswer, "connection refused"), (gone.Outcome, gone.Message));
        var unknown = await TlsProbe.KnockAsync("no-such-host.invalid", 443, "a.example", TimeProvider.System, ct);
        Assert.Equal(LookOutcome.NoAnswer, unknown.Outcome);
    }

    [Fact]
    public async Task One_broken_server_and_two_of_one_name_do_not_spoil_the_report()
    {
        using var s = new Scratch();
        var report = await ReportAsync(s, new Fake("web", "a.example"), new Fake("odd", null), new Fake("web-2", "a.example"));
        Assert.Equal(["a.example", "a.example@web-2"], report.Services.Select(x => x.Name));
        Assert.Contains("odd", report.Problem!.Message);
    }

    [Fact]
    public void A_service_is_found_by_its_name_on_the_host()
    {
        var instances = new Instances([new Fake("web", "a.example"), new Fake("odd", null), new Fake("web-2", "a.example")]);
        Assert.Equal("web", instances.Service("a.example").Instance.Id.Name);
        var second = instances.Service("a.example@web-2");
        Assert.Equal(("web-2", "a.example"), (second.Instance.Id.Name, second.Name));
        Assert.Contains("odd", Assert.Throws<BeaconProblem>(() => instances.Service("b.example@odd")).Message);
        Assert.Equal(ProblemCode.NotFound, Assert.Throws<BeaconProblem>(() => instances.Service("b.example")).Code);
        var p = Assert.Throws<BeaconProblem>(() => Instances.Of([new("lighthouse", "/x", "/y", null)], "h.example"));
        Assert.Contains("nginx", p.Cure);
    }

    private static Task<AgentReport> ReportAsync(Scratch s, params IConnector[] connectors) =>
        Surroundings.DescribeAsync(
            new Instances(connectors),
            new CertificateStore(s["store"]),
            new BoundBook(s.Path),
            TimeProvider.System,
            TestContext.Current.CancellationToken
        );

    /// <summary>A server that has one site, or whose configuration throws.</summary>
    private sealed class Fake(string name, string? service) : IConnector
    {
        public InstanceId Id => new("web", name, "/etc/" + name);

        public bool HasSites => true;

        public Needs Needs { get; } = new(StoreForm.Pair);

        public IFiles Files { get; } = new HostFiles();

        public Discovery Discover(IFiles files) =>
            service is null
                ? throw new FormatException("An invalid IP address was specified.")
                : new([new FoundService("web", service, [service], [], [$"/etc/{name}:1"], null, null, [])], null);

        public ChangeSet PlanBinding(BindChange change, IFiles files) => throw new NotSupportedException();

        public void Test(IFiles files, ReadInstead? instead = null) { }

        public bool IsRunning() => true;

        public void TakeUp() { }

        public bool IsSettled() => true;

        public void Start() { }

        public string? LastComplaint(DateTimeOffset since) => null;
    }
}
