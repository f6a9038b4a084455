using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Microsoft.AspNetCore.Builder;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Time.Testing;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Enrolment;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Renewals;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Trust;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Tests;

/// <summary>
/// The service's own parts in this process, on a clock that the test moves, with a host whose agent does at once what it is ordered: makes a key, fetches the edition, and serves it.
/// The authority lives for twenty years.
/// </summary>
internal sealed class TimedService : IAsyncDisposable
{
    private readonly Scratch _scratch = new();
    private WebApplication _app = null!;
    private Caretaker _caretaker = null!;
    private readonly Dictionary<string, string> _serving = [];

    public FakeTimeProvider Clock { get; } = new(DateTimeOffset.UtcNow);
    public static readonly Caller Robin = new("robin", [Core.Rights.Who.Administrators], null);
    public const string Web = "web01.thistledown.example",
        Shop = "shop.thistledown.example";

    /// <summary>What the agent answers instead of doing an order; null lets it.</summary>
    public ProblemInfo? Fails { get; set; }
    public int Obtained { get; private set; }

    private static CancellationToken Ct => TestContext.Current.CancellationToken;

    public static async Task<TimedService> StartAsync()
    {
        var s = new TimedService();
        var builder = ProgramFolder.Builder();
        builder.Services.AddBeacon(
            new BeaconOptions
            {
                FirstName = "robin",
                Data = s._scratch["data"],
                Founding = "offline",
                Organization = "Thistledown Rail",
                Zones = "thistledown.example=administrators",
            },
            hosted: false
        );
        builder.Services.AddSingleton<TimeProvider>(s.Clock);
        builder.Services.AddSingleton<IHostedService>(p => p.GetRequiredService<EditionLedger>());
        s._app = builder.Build();
        await s._app.PrepareAsync();
        await s.Get<EditionLedger>().StartAsync(Ct);
        await s.FoundAsync();
        s._caretaker = ActivatorUtilities.CreateInstance<Caretaker>(s._app.Services);
        await s.JoinAsync();
        return s;
    }

    public T Get<T>()
        where T : notnull => _app.Services.GetRequiredService<T>();

    public async Task<TResult> InAsync<T, TResult>(Func<T, Task<TResult>> work)
        where T : notnull
    {
        await using var scope = _app.Services.CreateAsyncScope();
        return await work(scope.ServiceProvider.GetRequiredService<T>());
    }

    public Task InAsync<T>(Func<T, Task> work)
        where T : notnull =>
        InAsync<T, bool>(async t =>
        {
            await work(t);
            return true;
        });

    public Task<Today> TodayAsync() => InAsync<TodayQuery, Today>(q => q.RunAsync(Ct));

    /// <summary>One regular round, a while after the one before, and whatever the agent is ordered by it.</summary>
    public async Task RoundAsync()
    {
        Clock.Advance(Wake.Anyway + TimeSpan.FromSeconds(1));
        Get<Presence>().Saw(1);
        await _caretaker.RoundAsync(Ct);
        while (await WorkAsync()) { }
    }

    /// <summary>A round in which no host is heard from.</summary>
    public async Task SilentRoundAsync()
    {
        Clock.Advance(Wake.Anyway + TimeSpan.FromSeconds(1));
        await _caretaker.RoundAsync(Ct);
    }

    private void Run(params string[] args)
    {
        var (code, output, error) = Programs.Run("bash", ["-c", "exec \"$0\" \"$@\" 3<<<'five quiet words in a row'", Own.Client, .. args]);
        Assert.True(code == 0, output + error);
    }

    private async Task FoundAsync()
    {
        var root = _scratch["root"];
        Run("ceremony", "create", root, "--name", "CN=Thistledown Root", "--key", "ec-p256", "--life", "30y", "--passphrase-fd", "3");
        var request = await InAsync<BeaconDb, byte[]>(async db =>
            (await db.Generations.AsNoTracking().SingleAsync(g => g.Request != null, Ct)).Request!
        );
        var file = _scratch.File("request.pem", Armor.Write(Armor.CertificateRequest, request));
        Run("ceremony", "sign", root, file, "--life", "20y", "--passphrase-fd", "3");
        var answers = Directory
            .EnumerateFiles(Path.Combine(root, "out"), "*certificate*")
            .Select(f => Armor.Read(File.ReadAllBytes(f)).Blocks[0].Der);
        await InAsync<InstallAnswer>(i => i.RunAsync("issuing", answers, Actor.System, Ct));
    }

    private async Task JoinAsync()
    {
        await JoinAsync(Web);
        await ReportAsync();
    }

    private async Task JoinAsync(string host)
    {
        var invited = await InAsync<InviteHost, HostInvitation>(i => i.RunAsync(host, null, Robin, Ct));
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var csr = Core.Requests.CertificationRequest.Read(System.Text.Encoding.ASCII.GetBytes(CsrOf(key, [host])));
        await InAsync<EnrolAgent>(e => e.JoinAsync(csr, host, invited.Code, "127.0.0.1", Ct));
    }

    /// <summary>A second host of that name joins, unless it has, and says that it serves the shop's name too, or no more.</summary>
    public async Task ClaimShopAsync(string host, bool serves)
    {
        int? known = await InAsync<BeaconDb, int?>(db =>
            db.Hosts.Where(h => h.Name == host).Select(h => (int?)h.Id).FirstOrDefaultAsync(Ct)
        );
        if (known is null)
            await JoinAsync(host);
        var id = known ?? await InAsync<BeaconDb, int>(db => db.Hosts.Where(h => h.Name == host).Select(h => h.Id).SingleAsync(Ct));
        List<FoundService> services = serves
            ? [new("nginx", "copy", [Shop.ToUpperInvariant()], [new("127.0.0.2", 443, true)], [], null, null, [Look()])]
            : [];
        await InAsync<TakeReport>(t => t.RunAsync(id, new("0.2", Clock.GetUtcNow(), ["127.0.0.2"], services, [], null), Ct));
    }

    /// <summary>The host says which services it has and what they serve, as its agent does after changes.</summary>
    public Task ReportAsync() =>
        InAsync<TakeReport>(t =>
            t.RunAsync(
                1,
                new(
                    "0.2",
                    Clock.GetUtcNow(),
                    ["127.0.0.1"],
                    [new("nginx", Shop, [Shop], [new("127.0.0.1", 443, true)], [], null, null, [Look()])],
                    [],
                    null
                ),
                Ct
            )
        );

    private LookReport Look() =>
        new(
            "127.0.0.1",
            443,
            Shop,
            Clock.GetUtcNow(),
            _serving.ContainsKey(Shop) ? LookOutcome.Served : LookOutcome.PlainOnly,
            "",
            "TLS 1.3",
            ChainOf(Shop)
        );

    private List<string> ChainOf(string name) =>
        _serving.TryGetValue(name, out var pem)
            ? [.. Armor.Read(System.Text.Encoding.ASCII.GetBytes(pem)).Blocks.Select(b => Convert.ToBase64String(b.Der))]
            : [];

    private static string CsrOf(ECDsa key, IEnumerable<string> names)
    {
        var list = names.ToList();
        var request = new CertificateRequest("CN=" + list[0], key, HashAlgorithmName.SHA256);
        var alternatives = new SubjectAlternativeNameBuilder();
        list.ForEach(alternatives.AddDnsName);
        request.CertificateExtensions.Add(alternatives.Build());
        return request.CreateSigningRequestPem();
    }

    /// <returns>Whether there was an order.</returns>
    private async Task<bool> WorkAsync()
    {
        var order = await InAsync<BeaconDb, WorkOrder?>(db =>
            db.Orders.AsNoTracking()
                .Where(o => o.State == OrderState.Queued || o.State == OrderState.Taken)
                .OrderBy(o => o.Id)
                .FirstOrDefaultAsync(Ct)
        );
        if (order is null)
            return false;
        var host = await InAsync<BeaconDb, Hosts.Host>(db => db.Hosts.AsNoTracking().SingleAsync(h => h.Id == order.HostId, Ct));
        if (Fails is { } problem)
        {
            await InAsync<TakeResult>(t => t.RunAsync(host, order.Id, new(false, problem, [], null, null), Ct));
            return true;
        }
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var csr = CsrOf(key, order.Content.Names!);
        var edition = await InAsync<AnswerCsr, OrderEdition>(a => a.RunAsync(host, order.Id, csr, Ct));
        Obtained++;
        foreach (var service in order.Content.Services ?? [])
            _serving[service] = edition.Chain;
        await InAsync<TakeResult>(t => t.RunAsync(host, order.Id, new(true, null, [], [Look()], null), Ct));
        return true;
    }

    /// <summary>What the shop's clients meet now.</summary>
    public X509 Served => X509.Read(Convert.FromBase64String(ChainOf(Shop)[0]));

    public async Task RequestShopAsync(string? called = null)
    {
        await InAsync<SubmitRequest>(r =>
            r.RunAsync(new(Web, "server", [Shop], null, called, "ec-p256", "90d", null, [Shop], null, null, null), Robin, "person", Ct)
        );
        Assert.True(
            await WorkAsync(),
            "no order came of it: "
                + string.Join(
                    "; ",
                    await InAsync<BeaconDb, List<string?>>(db =>
                        db.Requests.Select(q => q.State + " " + q.Reason + q.VerdictsJson).ToListAsync(Ct)!
                    )
                )
        );
    }

    public async ValueTask DisposeAsync()
    {
        await Get<EditionLedger>().StopAsync(CancellationToken.None);
        await _app.DisposeAsync();
        _scratch.Dispose();
    }
}
