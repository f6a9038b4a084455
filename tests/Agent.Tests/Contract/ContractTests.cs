using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>
/// The laws that every connector keeps, each tried on every kind of server, for real. A further kind is two short classes: its <see cref="RealServer"/>, and one below.
/// </summary>
public abstract partial class ContractTests
{
    private readonly Func<RealServer> _make;

    private protected ContractTests(Func<RealServer> make) => _make = make;

    /// <summary>What the matrix in the documents says of each law, by the name of its test.</summary>
    internal static readonly (string Test, string Law)[] AllLaws =
    [
        (nameof(What_is_there_is_found), "what is there is found: names, ways in, clear text"),
        (nameof(Planning_and_testing_change_nothing), "planning and testing change nothing"),
        (
            nameof(A_server_without_TLS_is_bound_and_put_back_to_the_byte),
            "without TLS: bound, served at every way in, put back to the byte"
        ),
        (nameof(A_certificate_of_somebody_else_gives_way_and_comes_back), "somebody else's certificate: replaced, and back to the byte"),
        (nameof(The_same_change_again_changes_nothing), "the same change again changes nothing"),
        (nameof(A_renewal_is_served_and_cuts_nobody_off), "renewed; an open conversation goes on, or that it ends is said before"),
        (nameof(What_is_broken_already_is_named_and_left), "a configuration that is broken already is named and left"),
        (nameof(A_pair_that_does_not_belong_together_never_gets_so_far), "a pair that does not belong together never gets to the server"),
        (nameof(A_pair_that_goes_bad_on_the_way_is_undone), "a pair that goes bad on the way is undone, and the old one is served"),
        (nameof(A_server_that_dies_is_put_back_and_started), "a server that dies at the reload is put back and runs"),
        (nameof(A_server_that_cannot_be_put_back_is_said_to_be_stuck), "an undo that fails is said: stuck, and what to do"),
        (nameof(Edits_by_other_hands_stay), "edits by other hands stay"),
        (nameof(The_key_is_for_its_server_alone), "the key is readable by its server and nobody else"),
        (nameof(A_kill_at_any_step_is_undone), "a kill at any step is undone, and the order done again"),
        (
            nameof(Clear_text_is_shown_ended_proven_ended_and_allowed_again),
            "clear text: shown, ended, tried by an independent client, allowed again; renewals go on meanwhile"
        ),
        (
            nameof(The_lowest_version_is_raised_seen_and_taken_back),
            "lowest version: raised, tried by an independent client, taken back; or that the server has no such setting is said"
        ),
        (nameof(A_kill_while_TLS_is_being_required_is_undone), "a kill while TLS is being required is undone"),
    ];

    private RealServer Started(bool withForeign = false)
    {
        var s = _make();
        s.Configure(withForeign ? s.ForeignPair() : null);
        s.Start();
        return s;
    }

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public void What_is_there_is_found()
    {
        using var s = _make();
        s.Configure(null);
        Assert.Null(s.Connector.Discover(s.Connector.Files).Problem);
        var plain = s.Found();
        Assert.NotEmpty(plain.Names);
        Assert.All(plain.Endpoints, e => Assert.False(e.Tls));
        Assert.All(plain.Endpoints, e => Assert.Equal(s.Address, e.Address));
        Assert.All(plain.Endpoints, e => Assert.True(e.ClearText));
        Assert.Null(plain.CertificateFile);
        var pair = s.ForeignPair();
        s.Configure(pair);
        var tls = s.Found();
        Assert.Equal(pair.Certificate, tls.CertificateFile);
        Assert.Superset(s.Doors.Select(d => d.Port).ToHashSet(), tls.Endpoints.Where(e => e.Tls).Select(e => e.Port).ToHashSet());
        Assert.All(tls.Places, p => Assert.StartsWith(s.ConfigFolder, p));
    }

    [Fact]
    public void Planning_and_testing_change_nothing()
    {
        using var s = Started();
        var before = s.Snapshot();
        var plan = s.Bench.Swap.Describe(s.Bench.Issue(s.Name, s.Name), s.Ref, s.Doors[0].Port);
        Assert.Contains(plan.Changes, c => c.Diff.Contains('+'));
        Assert.Equal(before, s.Snapshot());
        Assert.All(s.Doors, d => Assert.Null(s.Served(d)));
        Assert.Null(s.Bench.Bounds.Find(s.Service));
    }

    [Fact]
    public async Task A_server_without_TLS_is_bound_and_put_back_to_the_byte()
    {
        using var s = Started();
        var before = s.Snapshot();
        var entry = s.Bench.Issue(s.Name, s.Name);
        var looks = await s.BindAsync(entry);
        Assert.All(looks, l => Assert.Equal((LookOutcome.Served, s.Service), (l.Outcome, l.Service)));
        Assert.All(s.Doors, d => Assert.Equal(entry.File.Serial, s.Served(d)));
        Assert.Empty(s.Bench.Journal.Unfinished());
        await s.Bench.Swap.UnbindAsync(5000, s.Ref, Stop);
        Assert.Equal(before, s.Snapshot());
        Assert.All(s.Doors, d => Assert.Null(s.Served(d)));
        Assert.True(s.Connector.IsRunning());
    }

    [Fact]
    public async Task A_certificate_of_somebody_else_gives_way_and_comes_back()
    {
        using var s = Started(withForeign: true);
        var (before, theirs) = (s.Snapshot(), s.Doors.Select(s.Served).ToList());
        Assert.All(theirs, Assert.NotNull);
        var entry = s.Bench.Issue(s.Name, s.Name);
        await s.BindAsync(entry);
        Assert.All(s.Doors, d => Assert.Equal(entry.File.Serial, s.Served(d)));
        await s.Bench.Swap.UnbindAsync(5000, s.Ref, Stop);
        Assert.Equal(before, s.Snapshot());
        Assert.Equal(theirs, s.Doors.Select(s.Served));
    }

    [Fact]
    public async Task The_same_change_again_changes_nothing()
    {
        using var s = Started();
        var entry = s.Bench.Issue(s.Name, s.Name);
        await s.BindAsync(entry);
        var (bound, at) = (s.Snapshot(), s.ChangedAt());
        Assert.Empty(s.Bench.Swap.Describe(entry, s.Ref, null).Changes);
        await s.BindAsync(entry);
        Assert.Equal((bound, at), (s.Snapshot(), s.ChangedAt()));
    }

    [Fact]
    public async Task A_renewal_is_served_and_cuts_nobody_off()
    {
        using var s = Started();
        await s.BindAsync(s.Bench.Issue(s.Name, s.Name));
        var bound = s.Snapshot();
        using var talk = await s.TalkAsync();
        var pid = s.Pid;
        var second = s.Bench.Issue(s.Name, s.Name);
        var warnings = s.Bench.Swap.Describe(second, s.Ref, null).Warnings;
        Assert.Equal(s.IsCutOffByRenewals, warnings.Any(w => w == s.Connector.CutsOff));
        await s.BindAsync(second);
        if (s.IsCutOffByRenewals)
        {
            Assert.All(s.Doors, d => Assert.Equal(second.File.Serial, s.Served(d)));
            Assert.Equal(bound, s.Snapshot());
            return;
        }
        await talk.GoOnAsync();
        Assert.All(s.Doors, d => Assert.Equal(second.File.Serial, s.Served(d)));
        Assert.Equal((bound, pid), (s.Snapshot(), s.Pid));
        await talk.GoOnAsync();
    }

    [Fact]
    public async Task What_is_broken_already_is_named_and_left()
    {
        using var s = Started();
        File.AppendAllText(s.MainFile, s.BrokenLine + "\n");
        var before = s.Snapshot();
        var line = File.ReadLines(s.MainFile).Count();
        var p = await Assert.ThrowsAsync<BeaconProblem>(() => s.BindAsync(s.Bench.Issue(s.Name, s.Name)));
        Assert.Equal(ProblemCode.ConfigurationBroken, p.Code);
        Assert.Contains(s.MainFile, p.Message);
        Assert.Contains(line.ToString(), p.Message);
        Assert.Equal(before, s.Snapshot());
        Assert.True(s.Connector.IsRunning());
    }

    [Fact]
    public async Task A_pair_that_does_not_belong_together_never_gets_so_far()
    {
        using var s = Started();
        var first = s.Bench.Issue(s.Name, s.Name);
        await s.BindAsync(first);
        var (bound, log) = (s.Snapshot(), s.Bench.Steps.Count);
        var (odd, other) = (s.Bench.Issue(s.Name, s.Name), s.Bench.Issue("other", "other.example"));
        File.WriteAllText(odd.KeyPath, File.ReadAllText(other.KeyPath));
        var p = await Assert.ThrowsAsync<BeaconProblem>(() => s.BindAsync(odd));
        Assert.Contains("does not belong", p.Message);
        Assert.DoesNotContain(s.Bench.Steps.Skip(log), step => step.Contains("takes it up"));
        Assert.Equal(bound, s.Snapshot());
        Assert.All(s.Doors, d => Assert.Equal(first.File.Serial, s.Served(d)));
    }

    [Fact]
    public async Task A_pair_that_goes_bad_on_the_way_is_undone()
    {
        using var s = Started();
        var first = s.Bench.Issue(s.Name, s.Name);
        await s.BindAsync(first);
        var before = s.Snapshot();
        var other = s.Bench.Issue("other", "other.example");
        var used = s.Bench.Store.FilesOf(s.Name, s.Connector.Needs);
        // Between our test and the server's reading somebody puts another key there.
        var p = await Assert.ThrowsAsync<BeaconProblem>(() => BindWhileAsync(s, "takes it up", () => s.Spoil(used.Key, other.KeyPath)));
        Assert.True(p.Code is ProblemCode.SwapUndone or ProblemCode.ServerDied, p.Message);
        Assert.Equal(before, s.Snapshot());
        Assert.All(s.Doors, d => Assert.Equal(first.File.Serial, s.Served(d)));
        Assert.True(s.Connector.IsRunning());
    }

    [Fact]
    public async Task A_server_that_dies_is_put_back_and_started()
    {
        using var s = Started();
        var before = s.Snapshot();
        using var server = System.Diagnostics.Process.GetProcessById(s.Pid);
        var p = await Assert.ThrowsAsync<BeaconProblem>(() =>
            BindWhileAsync(
                s,
                "takes it up",
                () =>
                {
                    // One that is still dying may be taken for one that runs; restarted, it would be well.
                    server.Kill();
                    server.WaitForExit();
                }
            )
        );
        Assert.Contains("put back", p.Message);
        Assert.Equal(before, s.Snapshot());
        Assert.True(s.Connector.IsRunning(), p.Message);
        Assert.All(s.Doors, d => Assert.Null(s.Served(d)));
    }

    [Fact]
    public async Task A_server_that_cannot_be_put_back_is_said_to_be_stuck()
    {
        using var s = Started();
        var p = await Assert.ThrowsAsync<BeaconProblem>(() =>
            BindWhileAsync(
                s,
                "takes it up",
                () =>
                {
                    // Somebody else breaks the configuration by hand in the same moment, and the server dies of something.
                    s.Break();
                    using var server = System.Diagnostics.Process.GetProcessById(s.Pid);
                    server.Kill();
                    server.WaitForExit();
                }
            )
        );
        Assert.Equal(ProblemCode.SwapStuck, p.Code);
        Assert.Contains("by hand", p.Cure);
        // The edit of the other is theirs: it is not thrown away.
        Assert.EndsWith(s.BrokenLine + "\n", File.ReadAllText(s.MainFile));
        Assert.False(s.Connector.IsRunning());
    }

    private static async Task BindWhileAsync(RealServer s, string step, Action happens)
    {
        var swap = new SwapRun(
            s.Bench.Store,
            s.Bench.Journal,
            s.Bench.Bounds,
            TimeProvider.System,
            text =>
            {
                if (text.Contains(step, StringComparison.Ordinal))
                    happens();
            }
        );
        await swap.BindAsync(1000, s.Bench.Issue(s.Name, s.Name), [s.Ref], s.Doors[0].Port, [s.Bench.Root], Stop);
    }

    [Fact]
    public async Task Edits_by_other_hands_stay()
    {
        using var s = Started();
        var before = s.Snapshot();
        await s.BindAsync(s.Bench.Issue(s.Name, s.Name));
        var bound = s.Snapshot();
        s.ByAnotherHand();
        await s.BindAsync(s.Bench.Issue(s.Name, s.Name));
        Assert.Equal(s.WithAnotherHand(bound), s.Snapshot());
        await s.Bench.Swap.UnbindAsync(5000, s.Ref, Stop);
        Assert.Equal(s.WithAnotherHand(before), s.Snapshot());
    }

    [Fact]
    public async Task The_key_is_for_its_server_alone()
    {
        using var s = Started();
        var entry = s.Bench.Issue(s.Name, s.Name);
        await s.BindAsync(entry);
        var used = s.Bench.Store.FilesOf(s.Name, s.Connector.Needs);
        Assert.Equal(s.KeyOwner, StatOf(used.Key));
        Assert.Equal("root:root:600", StatOf(entry.KeyPath));
        // Another account gets to none of them.
        var files = Directory
            .GetFiles(entry.Folder, "*", SearchOption.AllDirectories)
            .Where(f => File.ReadAllText(f).Contains("PRIVATE KEY"));
        Assert.All(
            files,
            f => Assert.NotEqual(0, Programs.Run("setpriv", ["--reuid", "nobody", "--regid", "nogroup", "--clear-groups", "cat", f]).Code)
        );
    }

    private static string StatOf(string path) => Programs.Run("stat", ["-L", "-c", "%U:%G:%a", path]).Output.Trim();

    private sealed class Killed : Exception;

    [Fact]
    public async Task A_kill_at_any_step_is_undone()
    {
        using var s = Started();
        var first = s.Bench.Issue(s.Name, s.Name);
        await s.BindAsync(first);
        var before = s.Snapshot();
        // A second name in the certificate: another link, and an edit of the file.
        var second = s.Bench.Issue("another", s.Name, "also.thistledown.example");
        var kills = 0;
        for (var at = 1; ; at++)
        {
            var left = at;
            if (
                !await KilledAsync(
                    () => --left == 0,
                    step =>
                        new SwapRun(s.Bench.Store, s.Bench.Journal, s.Bench.Bounds, TimeProvider.System, step).BindAsync(
                            2000 + at,
                            second,
                            [s.Ref],
                            s.Doors[0].Port,
                            [s.Bench.Root],
                            Stop
                        )
                )
            )
                break;
            kills++;
            await s.Bench.Swap.RecoverAsync(_ => s.Connector, Stop);
            Assert.Equal((at, before), (at, s.Snapshot()));
            Assert.Empty(s.Bench.Journal.Unfinished());
            Assert.All(s.Doors, d => Assert.Equal((at, first.File.Serial), (at, s.Served(d))));
        }
        Assert.True(kills > 8, $"only {kills} places to be killed at");
        Assert.All(s.Doors, d => Assert.Equal(second.File.Serial, s.Served(d)));
    }
}

public sealed class NginxContractTests() : ContractTests(() => new NginxServer());

public sealed class PostfixContractTests() : ContractTests(() => new PostfixServer());

public sealed class DovecotContractTests() : ContractTests(() => new DovecotServer());

public sealed class PostgreSqlContractTests() : ContractTests(() => new PostgreSqlServer());
