using System.Security.Cryptography;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Enrolment;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Tests;

/// <summary>Concerns are rows: they come with the change that causes them, get worse as time goes by, and end with the change that ends them.</summary>
public sealed class ConcernTests : IAsyncLifetime
{
    private TimedService _s = null!;

    public async ValueTask InitializeAsync() => _s = await TimedService.StartAsync();

    public ValueTask DisposeAsync() => _s.DisposeAsync();

    private static CancellationToken Ct => TestContext.Current.CancellationToken;

    private Task<List<string>> OpenAsync(ConcernSubject of) =>
        _s.InAsync<BeaconDb, List<string>>(async db =>
            [
                .. (await db.Concerns.AsNoTracking().Where(c => c.Of == of).OrderBy(c => c.Id).ToListAsync(Ct)).Select(c =>
                    $"{c.About}: {c.Kind} {c.Severity}"
                ),
            ]
        );

    private async Task<X509> HandOutAsync(string name)
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var decided = await _s.InAsync<DecideEnrolment, Core.Enrolment.EnrolmentVerdict>(d =>
            d.RunAsync(
                new(
                    _s.Get<ProfileCatalogue>().Get("server"),
                    [name],
                    DistinguishedName.ForCommonName(name),
                    null,
                    null,
                    "group:administrators",
                    []
                ),
                Ct
            )
        );
        var made = await _s.Get<IssueEdition>()
            .RunAsync(
                decided.Granted!,
                Core.Keys.PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()),
                new(name, EditionState.Current, Actor.System, "test"),
                Ct
            );
        return X509.Read(made.Der);
    }

    [Fact]
    public async Task A_service_in_the_clear_is_told_until_it_has_a_certificate()
    {
        Assert.Equal(["web01/shop.thistledown.example: PlainOnly Now"], await OpenAsync(ConcernSubject.Service));
        var concern = Assert.Single((await _s.TodayAsync()).Concerns, c => c.Kind == ConcernKind.PlainOnly);
        Assert.Equal("beacon request new --host web01 --name shop.thistledown.example --bind-to shop.thistledown.example", concern.Command);
        await _s.RequestShopAsync();
        Assert.Empty(await OpenAsync(ConcernSubject.Service));
        Assert.Empty(await OpenAsync(ConcernSubject.Certificate));
    }

    [Fact]
    public async Task What_nothing_renews_is_called_out_before_its_end_and_at_its_end_until_a_new_one_is_made()
    {
        const string name = "device.thistledown.example";
        var edition = await HandOutAsync(name);
        await _s.RoundAsync();
        Assert.Empty(await OpenAsync(ConcernSubject.Certificate));
        _s.Clock.SetUtcNow(edition.NotAfter.AddDays(-29));
        await _s.RoundAsync();
        Assert.Equal([$"{name}: ExpiresSoon Soon"], await OpenAsync(ConcernSubject.Certificate));
        _s.Clock.SetUtcNow(edition.NotAfter.AddMinutes(1));
        await _s.RoundAsync();
        Assert.Equal([$"{name}: Expired Now"], await OpenAsync(ConcernSubject.Certificate));
        await HandOutAsync(name);
        await _s.RoundAsync();
        Assert.Empty(await OpenAsync(ConcernSubject.Certificate));
    }

    [Fact]
    public async Task What_was_handed_out_and_is_replaced_on_its_host_is_told_no_more()
    {
        var old = await HandOutAsync(TimedService.Shop);
        _s.Clock.SetUtcNow(old.NotAfter.AddDays(-1));
        await _s.RoundAsync();
        Assert.Equal([$"{TimedService.Shop}: ExpiresSoon Soon"], await OpenAsync(ConcernSubject.Certificate));
        await _s.RequestShopAsync("shop-on-web01");
        Assert.Empty(await OpenAsync(ConcernSubject.Certificate));
    }

    [Fact]
    public async Task A_name_that_another_host_serves_too_is_told_as_long_as_it_does()
    {
        const string told = "shop.thistledown.example: ClaimedElsewhere Soon";
        await _s.RequestShopAsync();
        await _s.ClaimShopAsync("web02.thistledown.example", serves: true);
        Assert.Equal([told], await OpenAsync(ConcernSubject.Certificate));
        var concern = Assert.Single((await _s.TodayAsync()).Concerns, c => c.Kind == ConcernKind.ClaimedElsewhere);
        Assert.StartsWith("web02.thistledown.example says that it serves", concern.Reason);
        var others = await _s.InAsync<NameHolders, NameHolder>(h => Task.FromResult(h.Others(TimedService.Shop, 1)));
        Assert.Equal(new(false, "web02.thistledown.example"), others);

        await _s.ClaimShopAsync("web02.thistledown.example", serves: false);
        Assert.Empty(await OpenAsync(ConcernSubject.Certificate));
        await _s.ClaimShopAsync("web02.thistledown.example", serves: true);
        Assert.Equal([told], await OpenAsync(ConcernSubject.Certificate));
        await _s.InAsync<RemoveHost>(r => r.RunAsync("web02.thistledown.example", TimedService.Robin, Ct));
        Assert.Empty(await OpenAsync(ConcernSubject.Certificate));
        Assert.Equal(NameHolder.Nobody, await _s.InAsync<NameHolders, NameHolder>(h => Task.FromResult(h.Others(TimedService.Shop, 1))));
        Assert.True(await _s.InAsync<NameHolders, bool>(h => Task.FromResult(h.Others(TimedService.Web, 99).IsOtherHost)));
    }

    [Fact]
    public async Task A_hold_is_told_until_it_is_released_and_a_revocation_until_its_successor_serves()
    {
        await _s.RequestShopAsync();
        await _s.InAsync<RevokeEdition>(r => r.RunAsync(TimedService.Shop, new("certificate-hold", null), TimedService.Robin, Ct));
        Assert.Equal([$"{TimedService.Shop}: OnHold Now"], await OpenAsync(ConcernSubject.Certificate));
        await _s.InAsync<ReleaseEdition>(r => r.RunAsync(TimedService.Shop, null, TimedService.Robin, Ct));
        Assert.Empty(await OpenAsync(ConcernSubject.Certificate));
        await _s.InAsync<RevokeEdition>(r => r.RunAsync(TimedService.Shop, new("key-compromise", null), TimedService.Robin, Ct));
        Assert.Equal([$"{TimedService.Shop}: Revoked Now"], await OpenAsync(ConcernSubject.Certificate));
        await _s.RoundAsync();
        Assert.Empty(await OpenAsync(ConcernSubject.Certificate));
    }

    [Fact]
    public async Task A_host_that_falls_silent_is_told_until_it_speaks_or_is_removed()
    {
        await _s.RoundAsync();
        Assert.Empty(await OpenAsync(ConcernSubject.Host));
        _s.Clock.Advance(TimeSpan.FromMinutes(3));
        await _s.SilentRoundAsync();
        Assert.Equal(["web01: HostAway Now"], await OpenAsync(ConcernSubject.Host));
        await _s.RoundAsync();
        Assert.Empty(await OpenAsync(ConcernSubject.Host));
        _s.Clock.Advance(TimeSpan.FromMinutes(3));
        await _s.SilentRoundAsync();
        await _s.InAsync<RemoveHost>(r => r.RunAsync(TimedService.Web, TimedService.Robin, Ct));
        Assert.Empty(await OpenAsync(ConcernSubject.Host));
        Assert.Empty(await OpenAsync(ConcernSubject.Service));
        await _s.SilentRoundAsync();
        Assert.Empty(await OpenAsync(ConcernSubject.Host));
    }

    /// <summary>Nothing happens on an idle service: its rounds write nothing, and between two of them it asks nothing either.</summary>
    [Fact]
    public async Task An_hour_in_which_nothing_happens_writes_nothing()
    {
        await _s.RequestShopAsync();
        for (var i = 0; i < 3; i++)
            await _s.RoundAsync();
        var before = _s.Get<WriteGate>().Writes;
        for (var end = _s.Clock.GetUtcNow().AddHours(1); _s.Clock.GetUtcNow() < end; )
            await _s.RoundAsync();
        // The hour's housekeeping, and when hosts were seen.
        Assert.InRange(_s.Get<WriteGate>().Writes - before, 0, 2);
    }

    /// <summary>Every fault that a look or the hierarchy can have has its word among the causes.</summary>
    [Fact]
    public void Each_fault_has_a_cause_of_its_name()
    {
        var faults = Enum.GetNames<Core.Paths.LookFault>().Concat(Enum.GetNames<Core.Health.PointFault>());
        Assert.Empty(faults.Except(Enum.GetNames<ConcernKind>()));
        Assert.Equal(ConcernKind.Unknown, OpenWord<ConcernKind>.Of("of-next-year"));
    }
}
