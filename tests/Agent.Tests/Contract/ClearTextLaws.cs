using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>The laws of requiring TLS. What goes without it is tried by programs that know nothing of us.</summary>
public abstract partial class ContractTests
{
    private static TlsDemand Demand(RealServer s, Action<string>? step = null) =>
        new(s.Bench.Journal, s.Bench.Bounds.Demands, TimeProvider.System, step ?? s.Bench.Steps.Add);

    [Fact]
    public async Task Clear_text_is_shown_ended_proven_ended_and_allowed_again()
    {
        using var s = Started();
        var original = s.Snapshot();
        var refused = await Assert.ThrowsAsync<BeaconProblem>(() => Demand(s).RequireAsync(3000, s.Ref, Stop));
        Assert.Contains("no TLS yet", refused.Message);
        await s.BindAsync(s.Bench.Issue(s.Name, s.Name));
        var bound = s.Snapshot();
        if (s.Found().Endpoints.All(e => e.ClearText == false))
        {
            Assert.Contains("already", Assert.Single((await Demand(s).DescribeAsync(s.Ref, Stop)).Steps));
            return;
        }
        Assert.True(s.GoesInTheClear(), "it does not go without TLS before");
        Assert.Contains(s.Found().Endpoints, e => e.Readable?.Count > 0);
        Assert.Contains((await Demand(s).DescribeAsync(s.Ref, Stop)).Changes, c => c.Diff.Contains('+') || c.Diff.Contains('-'));
        Assert.Equal(bound, s.Snapshot());

        await Demand(s).RequireAsync(3001, s.Ref, Stop);
        Assert.False(s.GoesInTheClear(), "it goes without TLS all the same");
        Assert.All(s.Found().Endpoints, e => Assert.False(e.ClearText));
        var required = s.Snapshot();
        await Demand(s).RequireAsync(3002, s.Ref, Stop);
        Assert.Equal(required, s.Snapshot());
        var entry = s.Bench.Issue(s.Name, s.Name);
        await s.BindAsync(entry);
        Assert.Equal(required, s.Snapshot());
        Assert.All(s.Doors, d => Assert.Equal(entry.File.Serial, s.Served(d)));
        Assert.False(s.GoesInTheClear());
        var shut = await Assert.ThrowsAsync<BeaconProblem>(() => s.Bench.Swap.UnbindAsync(3003, s.Ref, Stop));
        Assert.Contains("Allow clear text again", shut.Cure);
        // Another certificate in between: what was there before all of it is still known.
        await s.BindAsync(s.Bench.Issue("another", s.Name));

        await Demand(s).AllowAsync(3004, s.Ref, Stop);
        Assert.True(s.GoesInTheClear(), "it does not go without TLS again");
        await s.Bench.Swap.UnbindAsync(3005, s.Ref, Stop);
        Assert.Equal(original, s.Snapshot());
    }

    private static RaiseTls Raise(RealServer s, Action<string>? step = null) =>
        new(s.Bench.Journal, s.Bench.Bounds.Demands, TimeProvider.System, step ?? s.Bench.Steps.Add);

    [Fact]
    public async Task The_lowest_version_is_raised_seen_and_taken_back()
    {
        using var s = Started();
        if (s.Found().Endpoints.All(e => !e.Tls))
        {
            var refused = await Assert.ThrowsAsync<BeaconProblem>(() => Raise(s).RunAsync(5000, s.Ref, LowestTls.Tls13, Stop));
            Assert.Contains("no TLS yet", refused.Message);
        }
        await s.BindAsync(s.Bench.Issue(s.Name, s.Name));
        var bound = s.Snapshot();
        Assert.All(s.Doors, d => Assert.True(s.Takes(d, "-tls1_2"), "it takes no TLS 1.2 before"));
        if (s.Connector is not ILimitsVersions)
        {
            var none = await Assert.ThrowsAsync<BeaconProblem>(() => Raise(s).RunAsync(5001, s.Ref, LowestTls.Tls13, Stop));
            Assert.Contains("has no setting", none.Message);
            Assert.Equal(bound, s.Snapshot());
            return;
        }
        var plan = await Raise(s).DescribeAsync(s.Ref, LowestTls.Tls13, Stop);
        Assert.Contains(plan.Changes, c => c.Diff.Contains('+') || c.Diff.Contains('-'));
        Assert.Contains(plan.Warnings, w => w.Contains("nothing newer than TLS 1.2"));
        Assert.Equal(bound, s.Snapshot());

        // Old versions that this machine's library keeps out already are no change.
        Assert.Contains("no version below TLS 1.2", await Raise(s).RunAsync(5001, s.Ref, LowestTls.Tls12, Stop));
        Assert.Empty((await Raise(s).DescribeAsync(s.Ref, LowestTls.Tls12, Stop)).Changes);
        Assert.All(s.Doors, d => Assert.True(s.Takes(d, "-tls1_2")));
        Assert.Contains("no version below TLS 1.3", await Raise(s).RunAsync(5002, s.Ref, LowestTls.Tls13, Stop));
        Assert.All(s.Doors, d => Assert.False(s.Takes(d, "-tls1_2"), "it takes TLS 1.2 all the same"));
        Assert.All(s.Doors, d => Assert.True(s.Takes(d, "-tls1_3"), "it takes no TLS 1.3"));
        var raised = s.Snapshot();
        Assert.Contains("already", await Raise(s).RunAsync(5003, s.Ref, LowestTls.Tls13, Stop));
        Assert.Equal(raised, s.Snapshot());
        // A renewal leaves it, and so does what ends clear text; all of it goes back together.
        await s.BindAsync(s.Bench.Issue(s.Name, s.Name));
        Assert.Equal(raised, s.Snapshot());
        var shut = await Assert.ThrowsAsync<BeaconProblem>(() => s.Bench.Swap.UnbindAsync(5006, s.Ref, Stop));
        Assert.Contains("Allow old versions again", shut.Cure);
        await Demand(s).RequireAsync(5004, s.Ref, Stop);
        Assert.All(s.Doors, d => Assert.False(s.Takes(d, "-tls1_2")));
        Assert.Contains(Demand(s).DescribeEnd(s.Ref).Warnings, w => w.Contains("Versions below TLS 1.3 are taken again"));
        await Demand(s).AllowAsync(5005, s.Ref, Stop);
        Assert.Equal(bound, s.Snapshot());
        Assert.All(s.Doors, d => Assert.True(s.Takes(d, "-tls1_2"), "it takes no TLS 1.2 again"));
    }

    [Fact]
    public async Task A_kill_while_TLS_is_being_required_is_undone()
    {
        using var s = Started();
        var entry = s.Bench.Issue(s.Name, s.Name);
        await s.BindAsync(entry);
        if (s.Found().Endpoints.All(e => e.ClearText == false))
            return;
        var before = s.Snapshot();
        var kills = 0;
        for (var at = 1; ; at++, kills++)
        {
            var left = at;
            if (!await KilledAsync(() => --left == 0, step => Demand(s, step).RequireAsync(4000 + at, s.Ref, Stop)))
                break;
            await s.Bench.Swap.RecoverAsync(_ => s.Connector, Stop);
            Assert.Equal((at, before), (at, s.Snapshot()));
            Assert.All(s.Doors, d => Assert.Equal((at, entry.File.Serial), (at, s.Served(d))));
        }
        Assert.True(kills > 4, $"only {kills} places to be killed at");
        Assert.True(s.Connector.IsRunning());
        Assert.False(s.GoesInTheClear());
    }

    /// <summary>Cuts something off before one of its writes and steps; false when it came to its end.</summary>
    private static async Task<bool> KilledAsync(Func<bool> isNow, Func<Action<string>, Task> run)
    {
        void Count()
        {
            if (isNow())
                throw new Killed();
        }
        AtomicFiles.Before.Value = _ => Count();
        try
        {
            await run(_ => Count());
            return false;
        }
        catch (Killed)
        {
            return true;
        }
        finally
        {
            AtomicFiles.Before.Value = null;
        }
    }
}
