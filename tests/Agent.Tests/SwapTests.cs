using System.Net;
using System.Net.Sockets;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Agent.Tests;

public sealed class SwapTests
{
    private const string Plain =
        "server {\n    listen ADDR:8080;\n    server_name a.example;\n    root WWW;\n    location /big { limit_rate 200k; }\n}\n";
    private const string Two = Plain + "server {\n    listen ADDR:8080;\n    server_name b.example;\n    root WWW;\n}\n";

    [Fact]
    public async Task A_plain_site_is_bound_renewed_and_put_back()
    {
        using var n = new RealNginx(Plain).Start();
        var before = File.ReadAllText(n.SitePath);
        var first = n.Issue("a.example", "a.example");
        var plan = n.Swap.Describe(first, n.Service("a.example"), 8443);
        Assert.Contains("+    listen", Assert.Single(plan.Changes).Diff);
        Assert.Equal(before, File.ReadAllText(n.SitePath));
        Assert.Null(n.Served("a.example"));

        var look = Assert.Single(await n.BindAsync(first, "a.example"));
        Assert.Equal(LookOutcome.Served, look.Outcome);
        Assert.Equal(first.File.Serial, n.Served("a.example"));
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(first.KeyPath));
        Assert.Empty(n.Journal.Unfinished());

        var changed = File.GetLastWriteTimeUtc(n.SitePath);
        var second = n.Issue("a.example", "a.example");
        await n.BindAsync(second, "a.example");
        Assert.Equal(second.File.Serial, n.Served("a.example"));
        Assert.Equal(changed, File.GetLastWriteTimeUtc(n.SitePath));

        await n.Swap.UnbindAsync(5000, n.Service("a.example"), CancellationToken.None);
        Assert.Equal(before, File.ReadAllText(n.SitePath));
        Assert.Null(n.Served("a.example"));
    }

    [Fact]
    public async Task A_running_download_is_not_cut()
    {
        using var n = new RealNginx(Plain).Start();
        using var http = new HttpClient();
        using var m = new HttpRequestMessage(HttpMethod.Get, $"http://{n.Address}:8080/big") { Headers = { Host = "a.example" } };
        using var answer = await http.SendAsync(m, HttpCompletionOption.ResponseHeadersRead);
        var reading = answer.Content.ReadAsByteArrayAsync();
        await n.BindAsync(n.Issue("a.example", "a.example"), "a.example");
        Assert.False(reading.IsCompleted);
        Assert.Equal(600_000, (await reading).Length);
    }

    [Fact]
    public async Task Several_services_swap_together_or_not_at_all()
    {
        using var n = new RealNginx(Two).Start();
        var before = File.ReadAllText(n.SitePath);
        var p = await Assert.ThrowsAsync<BeaconProblem>(() => n.BindAsync(n.Issue("a.example", "a.example"), "a.example", "b.example"));
        Assert.Contains("not for b.example", p.Message);
        Assert.Equal(before, File.ReadAllText(n.SitePath));
        var both = n.Issue("both", "a.example", "b.example");
        await n.BindAsync(both, "a.example", "b.example");
        Assert.Equal([both.File.Serial, both.File.Serial], new[] { n.Served("a.example"), n.Served("b.example") });
    }

    [Fact]
    public async Task A_configuration_that_is_broken_already_is_told_and_left()
    {
        using var n = new RealNginx(Plain).Start();
        n.WriteSites(Plain.Replace("root WWW;", "no_such_directive on;\n    root WWW;"));
        var broken = File.ReadAllText(n.SitePath);
        var p = await Assert.ThrowsAsync<BeaconProblem>(() => n.BindAsync(n.Issue("a.example", "a.example"), "a.example"));
        Assert.Equal(ProblemCode.ConfigurationBroken, p.Code);
        Assert.Contains("no_such_directive", p.Message);
        Assert.Contains($"{n.SitePath}:4", p.Message);
        Assert.Contains("nothing was changed", p.Cure);
        Assert.Equal(broken, File.ReadAllText(n.SitePath));
        Assert.False(Directory.EnumerateFiles(n.Folder, ".beacon*").Any());
    }

    [Fact]
    public async Task A_name_that_clients_used_before_and_the_new_certificate_lacks_undoes_the_swap()
    {
        using var n = new RealNginx(Plain.Replace("a.example;", "a.example second.example;")).Start();
        var both = n.Issue("both", "a.example", "second.example");
        await n.BindAsync(both, "a.example");
        var before = File.ReadAllText(n.SitePath);
        var one = n.Issue("one", "a.example");
        var warned = n.Swap.Describe(one, n.Service("a.example"), null).Warnings;
        Assert.Contains(warned, w => w.Contains("lacks second.example"));
        var p = await Assert.ThrowsAsync<BeaconProblem>(() => n.BindAsync(one, "a.example"));
        Assert.Equal(ProblemCode.SwapUndone, p.Code);
        Assert.Contains("second.example at", p.Message);
        Assert.Contains("Everything is as it was", p.Message);
        Assert.Equal(before, File.ReadAllText(n.SitePath));
        Assert.Equal([both.File.Serial, both.File.Serial], new[] { n.Served("a.example"), n.Served("second.example") });
    }

    [Fact]
    public async Task A_neighbour_that_a_swap_would_break_undoes_it()
    {
        // Both sites share an address; the default one's certificate is what a client without a site of its name gets.
        using var n = new RealNginx(Two).Start();
        await n.BindAsync(n.Issue("a.example", "a.example"), "a.example");
        await n.BindAsync(n.Issue("b.example", "b.example"), "b.example");
        var (a, b) = (n.Served("a.example"), n.Served("b.example"));
        // Somebody edits the neighbour by hand and does not reload: a swap's reload would take that up.
        var text = File.ReadAllText(n.SitePath);
        var foreign = n.Issue("foreign", "elsewhere.example");
        File.WriteAllText(
            n.SitePath,
            text.Replace("in-use/b.example/pair/certificates.pem", $"keyed/{Path.GetFileName(foreign.Folder)}/pair/certificates.pem")
                .Replace("in-use/b.example/pair/key.pem", $"keyed/{Path.GetFileName(foreign.Folder)}/pair/key.pem")
        );
        var p = await Assert.ThrowsAsync<BeaconProblem>(() => n.BindAsync(n.Issue("a.example", "a.example"), "a.example"));
        Assert.Contains("b.example at", p.Message);
        Assert.Contains("is for elsewhere.example", p.Message);
        // Putting our own back cannot bring back what somebody else's file says: that is told, and not called as it was.
        Assert.Contains("clients are refused still: b.example", p.Message);
        Assert.DoesNotContain("Everything is as it was", p.Message);
        Assert.Equal(a, n.Served("a.example"));
        Assert.NotEqual(b, n.Served("b.example"));
    }

    [Fact]
    public async Task A_site_in_a_folder_that_others_can_write_is_left_with_the_cure()
    {
        using var n = new RealNginx(Plain).Start();
        var folder = Path.GetDirectoryName(n.SitePath)!;
        File.SetUnixFileMode(folder, File.GetUnixFileMode(folder) | UnixFileMode.OtherWrite);
        var before = File.ReadAllText(n.SitePath);
        var p = await Assert.ThrowsAsync<BeaconProblem>(() => n.BindAsync(n.Issue("a.example", "a.example"), "a.example"));
        Assert.Contains(folder, p.Message);
        Assert.Contains("chmod", p.Cure);
        Assert.Equal(before, File.ReadAllText(n.SitePath));
        Assert.Null(n.Served("a.example"));
        Assert.Empty(n.Journal.Unfinished());
    }

    [Fact]
    public async Task A_port_of_another_program_is_told_and_nothing_changed()
    {
        using var n = new RealNginx(Plain).Start();
        using var other = new TcpListener(IPAddress.Parse(n.Address), 8443);
        other.Start();
        var before = File.ReadAllText(n.SitePath);
        var p = await Assert.ThrowsAsync<BeaconProblem>(() => n.BindAsync(n.Issue("a.example", "a.example"), "a.example"));
        Assert.Equal(ProblemCode.PortTaken, p.Code);
        Assert.Equal(before, File.ReadAllText(n.SitePath));
    }

    [Fact]
    public async Task An_nginx_that_dies_on_reload_is_put_back_and_started_again()
    {
        // On a busy machine the reload may be over before the server is gone; then nothing was tried.
        for (var i = 0; i < 10; i++)
            if (await DiesOnReloadAsync())
                return;
        Assert.Fail("the reload was always quicker");
    }

    /// <returns>Whether the server was gone in time.</returns>
    private static async Task<bool> DiesOnReloadAsync()
    {
        using var n = new RealNginx(Plain).Start();
        var before = File.ReadAllText(n.SitePath);
        using var stop = new CancellationTokenSource();
        var pid = n.Pid;
        // The moment the changed file is in place, the server is gone: the reload meets a dead process.
        // On a thread of its own and without another program, so that a busy machine does not let the reload win.
        using var server = System.Diagnostics.Process.GetProcessById(pid);
        var killer = Task.Factory.StartNew(
            () =>
            {
                while (!stop.IsCancellationRequested && File.ReadAllText(n.SitePath) == before)
                    Thread.Yield();
                server.Kill();
            },
            TaskCreationOptions.LongRunning
        );
        var thrown = await Record.ExceptionAsync(() => n.BindAsync(n.Issue("a.example", "a.example"), "a.example"));
        await stop.CancelAsync();
        await killer;
        if (thrown is null)
            return false;
        var p = Assert.IsType<BeaconProblem>(thrown);
        Assert.Equal(before, File.ReadAllText(n.SitePath));
        Assert.True(n.Connector.IsRunning(), p.Message);
        using var http = new HttpClient();
        using var m = new HttpRequestMessage(HttpMethod.Get, $"http://{n.Address}:8080/") { Headers = { Host = "a.example" } };
        Assert.Equal(HttpStatusCode.OK, (await http.SendAsync(m)).StatusCode);
        return true;
    }

    [Fact]
    public async Task A_swap_that_was_cut_off_is_undone_at_start()
    {
        using var n = new RealNginx(Plain).Start();
        var before = File.ReadAllText(n.SitePath);
        var first = n.Issue("a.example", "a.example");
        await n.BindAsync(first, "a.example");
        var bound = File.ReadAllText(n.SitePath);
        // As a kill would leave it: record written, link turned, not confirmed.
        var second = n.Issue("a.example", "a.example");
        n.Journal.Open(
            new(77, null, "a.example", second.File.Serial, n.Store.InUseLink("a.example"), null, n.Store.LinkTargetFor(second), [])
            {
                Instances = ["nginx"],
            },
            [new(new(n.SitePath, bound, bound + "# half"), null)]
        );
        AtomicFiles.Link(n.Store.InUseLink("a.example"), n.Store.LinkTargetFor(second));
        File.WriteAllText(n.SitePath, bound + "# half");
        await n.Swap.RecoverAsync(_ => n.Connector, CancellationToken.None);
        Assert.Equal(bound, File.ReadAllText(n.SitePath));
        Assert.Equal(first.File.Serial, n.Store.InUse("a.example")!.File.Serial);
        Assert.Equal(first.File.Serial, n.Served("a.example"));
        Assert.Empty(n.Journal.Unfinished());
        Assert.NotEqual(before, bound);
    }

    [Fact]
    public async Task What_somebody_else_changed_meanwhile_is_left_alone()
    {
        using var n = new RealNginx(Plain).Start();
        var before = File.ReadAllText(n.SitePath);
        // As an agent before 0.2 wrote it.
        n.Journal.Open(new(78, "nginx", null, null, null, null, null, []), [new(new(n.SitePath, before, before + "# ours"), null)]);
        File.WriteAllText(n.SitePath, before + "# theirs");
        await n.Swap.RecoverAsync(_ => n.Connector, CancellationToken.None);
        Assert.EndsWith("# theirs", File.ReadAllText(n.SitePath));
        Assert.Contains(n.Steps, s => s.Contains("changed by somebody else"));
    }

    [Fact]
    public void A_full_disk_loses_nothing()
    {
        using var s = new Scratch();
        Directory.CreateDirectory(s["small"]);
        var (code, _, error) = Programs.Run("mount", ["-t", "tmpfs", "-o", "size=64k", "tmpfs", s["small"]]);
        if (code != 0)
        {
            Assert.Skip("a small file system cannot be mounted here: " + error);
            return;
        }
        try
        {
            var store = new CertificateStore(Path.Combine(s["small"], "store"));
            AtomicFiles.Write(Path.Combine(s["small"], "kept"), "before"u8, isPrivate: true);
            var p = Assert.Throws<BeaconProblem>(() =>
                AtomicFiles.Write(Path.Combine(s["small"], "kept"), new byte[100_000], isPrivate: true)
            );
            Assert.Equal(ProblemCode.CannotWrite, p.Code);
            Assert.Contains("full", p.Message);
            Assert.Equal("before", File.ReadAllText(Path.Combine(s["small"], "kept")));
            File.WriteAllBytes(Path.Combine(s["small"], "filler"), new byte[48 * 1024]);
            Assert.Throws<BeaconProblem>(() =>
            {
                for (var i = 1; i < 40; i++)
                    store.Prepare(i, DistinguishedName.ForCommonName("a.example"), [AlternativeName.Parse("a.example")], KeySpec.P256);
            });
            // Room again: the same order goes on, with the key of the first try where there was one.
            File.Delete(Path.Combine(s["small"], "filler"));
            Assert.Equal(
                store.Prepare(1, DistinguishedName.ForCommonName("a.example"), [AlternativeName.Parse("a.example")], KeySpec.P256),
                store.Prepare(1, DistinguishedName.ForCommonName("a.example"), [AlternativeName.Parse("a.example")], KeySpec.P256)
            );
        }
        finally
        {
            Programs.Run("umount", ["-l", s["small"]]);
        }
    }

    [Fact]
    public void An_edition_for_another_key_is_not_kept()
    {
        using var n = new RealNginx(Plain);
        var e = n.Issue("a.example", "a.example");
        n.Store.Prepare(500, DistinguishedName.ForCommonName("a.example"), [AlternativeName.Parse("a.example")], KeySpec.P256);
        var other = n.Issue("b", "b.example");
        Assert.Equal(
            ProblemCode.DataDamaged,
            Assert.Throws<BeaconProblem>(() => n.Store.Complete(500, "c", File.ReadAllText(other.ChainPath))).Code
        );
    }
}
