using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Tests;

/// <summary>Time goes by in a moment: renewals and retries over years.</summary>
public sealed class YearsTests
{
    [Fact]
    public async Task Ten_years_of_renewals_leave_no_moment_without_a_good_edition()
    {
        await using var s = await TimedService.StartAsync();
        await s.RequestShopAsync();
        var end = s.Clock.GetUtcNow().AddYears(10);
        var watch = System.Diagnostics.Stopwatch.StartNew();
        var keys = new HashSet<string> { s.Served.PublicKey.Fingerprint() };
        while (s.Clock.GetUtcNow() < end)
        {
            var next = await s.InAsync<BeaconDb, DateTimeOffset?>(db => db.Certificates.MinAsync(c => c.NextActionAt));
            Assert.NotNull(next);
            // The service was never told to look; the edition in use is good until the moment that its successor is ordered.
            Assert.True(next < s.Served.NotAfter.AddDays(-20), $"{next} {s.Served.NotAfter}");
            s.Clock.SetUtcNow(next.Value);
            var before = s.Served.Serial;
            await s.RoundAsync();
            Assert.NotEqual(before, s.Served.Serial);
            Assert.True(keys.Add(s.Served.PublicKey.Fingerprint()), "a key was used again");
            Assert.True(s.Served.NotAfter > s.Clock.GetUtcNow().AddDays(80));
        }
        TestContext.Current.TestOutputHelper?.WriteLine($"{s.Obtained} editions in {watch.ElapsedMilliseconds} ms");
        // 90 days, renewed after two thirds and a little.
        Assert.InRange(s.Obtained, 55, 65);
        var (current, all, failures) = await s.InAsync<BeaconDb, (int, int, int)>(async db =>
            (
                await db.Editions.CountAsync(e => e.State == EditionState.Current && e.Profile == "server"),
                await db.Editions.CountAsync(e => e.Profile == "server"),
                await db.Certificates.SumAsync(c => c.Failures)
            )
        );
        Assert.Equal((1, s.Obtained, 0), (current, all, failures));
        await s.ReportAsync();
        Assert.DoesNotContain((await s.TodayAsync()).Concerns, c => c.About.Contains("shop"));
    }

    [Fact]
    public async Task A_renewal_that_fails_is_tried_until_it_works_and_is_told_all_the_while()
    {
        await using var s = await TimedService.StartAsync();
        await s.RequestShopAsync();
        async Task<DateTimeOffset?> NextAsync() =>
            await s.InAsync<BeaconDb, DateTimeOffset?>(db => db.Certificates.MinAsync(c => c.NextActionAt));
        s.Fails = new("swap-failed", "nginx did not take it.", "Look into its log.");
        var (first, end, tries) = (s.Served.Serial, s.Served.NotAfter, 0);
        DateTimeOffset? since = null;
        s.Clock.SetUtcNow((await NextAsync())!.Value);
        for (; s.Clock.GetUtcNow() < end.AddDays(-3); tries++)
        {
            await s.RoundAsync();
            var told = Assert.Single((await s.TodayAsync()).Concerns, c => c.Kind == ConcernKind.RenewalFailed);
            Assert.Equal((Severity.Failed, since ?? told.Since), (told.Severity, told.Since));
            since = told.Since;
            var next = await NextAsync();
            Assert.True(next > s.Clock.GetUtcNow() && next < end, $"{s.Clock.GetUtcNow()} {next}");
            s.Clock.SetUtcNow(next.Value);
        }
        // Often enough to come through, seldom enough to be no load: a month of tries.
        Assert.InRange(tries, 20, 200);
        s.Fails = null;
        await s.RoundAsync();
        Assert.NotEqual(first, s.Served.Serial);
        Assert.DoesNotContain((await s.TodayAsync()).Concerns, c => c.Kind == ConcernKind.RenewalFailed);
    }
}
