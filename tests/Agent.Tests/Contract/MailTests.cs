using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>One certificate over two servers: Postfix and Dovecot swap together, or not at all.</summary>
public sealed class MailTests
{
    private const string Name = "mail.thistledown.example";

    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    private static (PostfixServer Postfix, DovecotServer Dovecot) Started()
    {
        var postfix = new PostfixServer();
        var dovecot = new DovecotServer { Bench = postfix.Bench };
        postfix.Configure(null);
        dovecot.Configure(null);
        postfix.Start();
        dovecot.Start();
        return (postfix, dovecot);
    }

    private static Task BindAsync(RealServer one, RealServer other, Store.StoreEntry entry) =>
        one.Bench.BindAsync(entry, null, one.Ref, other.Ref);

    private static IEnumerable<string?> Served(params RealServer[] servers) => servers.SelectMany(s => s.Doors.Select(s.Served));

    [Fact]
    public async Task Mail_is_taken_and_read_while_both_swap()
    {
        var (postfix, dovecot) = Started();
        using var p = postfix;
        using var d = dovecot;
        var before = (postfix.Snapshot(), dovecot.Snapshot());
        await BindAsync(postfix, dovecot, postfix.Bench.Issue("mail", Name));
        using var stop = new CancellationTokenSource();
        var mail = MailAsync(postfix, dovecot, stop.Token);
        for (var i = 0; i < 3; i++)
        {
            var next = postfix.Bench.Issue("mail", Name);
            await BindAsync(postfix, dovecot, next);
            Assert.All(Served(postfix, dovecot), s => Assert.Equal(next.File.Serial, s));
        }
        await stop.CancelAsync();
        var (sent, read) = await mail;
        Assert.True(sent > 5 && read > 5, $"{sent} sent, {read} read");
        await postfix.Bench.Swap.UnbindAsync(6000, postfix.Ref, Stop);
        await postfix.Bench.Swap.UnbindAsync(6001, dovecot.Ref, Stop);
        Assert.Equal(before, (postfix.Snapshot(), dovecot.Snapshot()));
    }

    /// <summary>Sends and reads by TLS, a conversation of its own each time, as mail programs do.</summary>
    private static async Task<(int Sent, int Read)> MailAsync(RealServer postfix, RealServer dovecot, CancellationToken stop)
    {
        var (sent, read) = (0, 0);
        while (!stop.IsCancellationRequested)
        {
            var (code, _, error) = await Task.Run(
                () =>
                    Programs.Run(
                        "curl",
                        [
                            "-sS",
                            "-k",
                            "--ssl-reqd",
                            $"smtp://{postfix.Address}:{postfix.Doors[1].Port}",
                            "--mail-from",
                            "robin@thistledown.example",
                            "--mail-rcpt",
                            "wren@thistledown.example",
                            "-T",
                            "-",
                        ],
                        "Subject: hello\r\n\r\nhello\r\n"u8.ToArray()
                    ),
                CancellationToken.None
            );
            Assert.True(code == 0, $"after {sent} messages: {error}");
            sent++;
            var way = read % 2 == 0 ? "imap" : "pop3";
            (code, error) = await ReadAsync(dovecot, way);
            // A reload cuts off who is in the middle of signing in: mail programs connect again, and so does this one.
            if (code != 0)
                (code, error) = await ReadAsync(dovecot, way);
            Assert.True(code == 0, $"after {read} readings, by {way}: {error}");
            read++;
        }
        return (sent, read);
    }

    private static Task<(int Code, string Error)> ReadAsync(RealServer dovecot, string way) =>
        Task.Run(() =>
        {
            var address = $"{way}://{dovecot.Address}:{dovecot.Doors.Single(d => d.StartTls == way).Port}/";
            var (code, _, error) = Programs.Run("curl", ["-sS", "-k", "--ssl-reqd", "-u", "robin:pw", address]);
            return (code, error);
        });

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task A_fault_in_either_leaves_both_as_they_were(bool inPostfix)
    {
        var (postfix, dovecot) = Started();
        using var p = postfix;
        using var d = dovecot;
        var first = postfix.Bench.Issue("mail", Name);
        await BindAsync(postfix, dovecot, first);
        RealServer faulty = inPostfix ? postfix : dovecot;
        File.AppendAllText(faulty.MainFile, faulty.BrokenLine + "\n");
        var before = (postfix.Snapshot(), dovecot.Snapshot());
        var problem = await Assert.ThrowsAsync<BeaconProblem>(() => BindAsync(postfix, dovecot, postfix.Bench.Issue("mail", Name)));
        Assert.Contains(faulty.MainFile, problem.Message);
        Assert.Equal(before, (postfix.Snapshot(), dovecot.Snapshot()));
        Assert.All(Served(postfix, dovecot), s => Assert.Equal(first.File.Serial, s));
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task One_that_dies_in_the_middle_takes_the_other_back_too(bool postfixDies)
    {
        var (postfix, dovecot) = Started();
        using var p = postfix;
        using var d = dovecot;
        var before = (postfix.Snapshot(), dovecot.Snapshot());
        RealServer dying = postfixDies ? postfix : dovecot;
        using var server = System.Diagnostics.Process.GetProcessById(dying.Pid);
        var b = postfix.Bench;
        var swap = new Swap.SwapRun(
            b.Store,
            b.Journal,
            b.Bounds,
            TimeProvider.System,
            step =>
            {
                if (step != $"{dying.Service} takes it up")
                    return;
                server.Kill();
                server.WaitForExit();
            }
        );
        await Assert.ThrowsAsync<BeaconProblem>(() =>
            swap.BindAsync(1000, b.Issue("mail", Name), [postfix.Ref, dovecot.Ref], null, [b.Root], Stop)
        );
        Assert.Equal(before, (postfix.Snapshot(), dovecot.Snapshot()));
        Assert.True(postfix.Connector.IsRunning() && dovecot.Connector.IsRunning());
        Assert.All(Served(postfix, dovecot), Assert.Null);
    }

    [Fact]
    public async Task A_certificate_for_another_name_is_refused_before_anything_is_touched()
    {
        var (postfix, dovecot) = Started();
        using var p = postfix;
        using var d = dovecot;
        var before = (postfix.Snapshot(), dovecot.Snapshot());
        var problem = await Assert.ThrowsAsync<BeaconProblem>(() =>
            BindAsync(postfix, dovecot, postfix.Bench.Issue("other", "other.thistledown.example"))
        );
        Assert.Contains($"not for {Name}", problem.Message);
        Assert.Equal(before, (postfix.Snapshot(), dovecot.Snapshot()));
    }
}
