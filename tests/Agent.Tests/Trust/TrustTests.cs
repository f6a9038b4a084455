using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Tests.Trust;

/// <summary>Laws of every kind of trust store, judged by real clients of it.</summary>
public sealed class TrustTests
{
    [Theory]
    [InlineData("system")]
    [InlineData("nss")]
    [InlineData("java")]
    [InlineData("java, older form")]
    [InlineData("file")]
    public void An_anchor_is_pushed_and_withdrawn_and_a_public_one_is_distrusted_and_trusted_again(string kind)
    {
        using var b = TrustBench.Of(kind);
        var before = b.Content();
        Assert.Equal((2, 0), (b.Found.Anchors, b.Found.Marks.Count));
        Assert.True(b.AcceptsPublic);
        Assert.False(b.AcceptsOurs);

        Assert.Equal("the store trusts it", b.Order(TrustAct.Push, "ours"));
        Assert.True(b.AcceptsOurs);
        Assert.Equal((3, TrustMark.Pushed), (b.Found.Anchors, Assert.Single(b.Found.Marks).Mark));
        var pushed = b.Content();
        Assert.Equal("the store trusts it", b.Order(TrustAct.Push, "ours"));
        Assert.Equal(pushed, b.Content());

        Assert.Equal("the store trusts it no more", b.Order(TrustAct.Distrust, "public"));
        Assert.False(b.AcceptsPublic);
        Assert.True(b.AcceptsOurs);
        Assert.Contains(new(b.Thumbprint("public"), TrustMark.Distrusted), b.Found.Marks);
        Assert.Equal("the store trusts it as before", b.Order(TrustAct.TrustAgain, "public"));
        Assert.True(b.AcceptsPublic);

        Assert.Equal("what was pushed is taken out", b.Order(TrustAct.Withdraw, "ours"));
        Assert.False(b.AcceptsOurs);
        Assert.True(b.AcceptsPublic);
        Assert.Equal(before, b.Content());
        Assert.Empty(b.Found.Marks);
    }

    [Theory]
    [InlineData("system")]
    [InlineData("nss")]
    [InlineData("java, older form")]
    [InlineData("file")]
    public void A_kill_at_any_write_is_made_good_by_the_same_order(string kind)
    {
        using var b = TrustBench.Of(kind);
        var before = b.Content();
        foreach (
            var (act, back, root) in new[]
            {
                (TrustAct.Push, TrustAct.Withdraw, "ours"),
                (TrustAct.Distrust, TrustAct.TrustAgain, "public"),
            }
        )
        {
            for (var at = 0; KilledAt(at, () => b.Order(act, root)); at++)
                b.Order(act, root);
            var after = b.Content();
            Assert.NotEqual(before, after);
            for (var at = 0; KilledAt(at, () => b.Order(back, root)); at++)
            {
                b.Order(back, root);
                Assert.Equal(before, b.Content());
                b.Order(act, root);
            }
            Assert.Equal(before, b.Content());
        }
    }

    private static bool KilledAt(int write, Action run)
    {
        var count = 0;
        AtomicFiles.Before.Value = _ =>
        {
            if (count++ == write)
                throw new InvalidOperationException("killed");
        };
        try
        {
            run();
            return false;
        }
        catch (InvalidOperationException)
        {
            return true;
        }
        finally
        {
            AtomicFiles.Before.Value = null;
        }
    }

    [Fact]
    public void A_file_is_as_it_was_to_the_byte_and_what_others_changed_meanwhile_stays()
    {
        using var b = TrustBench.Of("file");
        var before = File.ReadAllText(b.Place.Path);
        b.Order(TrustAct.Distrust, "public");
        b.Order(TrustAct.TrustAgain, "public");
        Assert.Equal(before, File.ReadAllText(b.Place.Path));
        b.Order(TrustAct.Push, "ours");
        File.AppendAllText(b.Place.Path, "# by hand\r\n");
        b.Order(TrustAct.Withdraw, "ours");
        Assert.EndsWith("# by hand\r\n", File.ReadAllText(b.Place.Path));
        Assert.DoesNotContain(Anchor.In(File.ReadAllText(b.Place.Path)), a => a.Thumbprint == b.Thumbprint("ours"));
    }

    [Fact]
    public void What_must_not_be_is_refused_and_changes_nothing()
    {
        using var b = TrustBench.Of("file");
        var before = File.ReadAllText(b.Place.Path);
        Refused("was not pushed", () => b.Order(TrustAct.Withdraw, "public"));
        b.Order(TrustAct.Distrust, "public");
        Refused("the only anchor", () => b.Order(TrustAct.Distrust, "other"));
        Refused("distrusted there by an order", () => b.Order(TrustAct.Push, "public"));
        b.Order(TrustAct.TrustAgain, "public");
        b.Order(TrustAct.Push, "ours");
        Refused("trusted there by an order", () => b.Order(TrustAct.Distrust, "ours"));
        b.Order(TrustAct.Withdraw, "ours");
        File.Copy(Path.Combine(b.Folder, "ours-leaf.pem"), b.Pem("ours"), overwrite: true);
        Refused("is no authority", () => b.Order(TrustAct.Push, "ours"));
        Assert.Equal(before, File.ReadAllText(b.Place.Path));
        Assert.Equal("the store does not have it: nothing is changed", b.Order(TrustAct.Distrust, "ours"));
    }

    [Fact]
    public void A_server_that_refuses_what_would_be_keeps_what_it_has()
    {
        using var b = TrustBench.Of("file");
        var (before, configuration) = (File.ReadAllText(b.Place.Path), Path.Combine(b.Folder, "nginx.conf"));
        var whole = File.ReadAllText(configuration);
        // Broken by hand since it was started.
        File.WriteAllText(configuration, whole.Replace("access_log off;", "access_log off; no_such_directive on;"));
        Refused("does not accept its configuration", () => b.Order(TrustAct.Push, "ours"));
        Assert.Equal(before, File.ReadAllText(b.Place.Path));
        Assert.Empty(b.Book.Of(b.Place));
        File.WriteAllText(configuration, whole);
        Assert.True(b.AcceptsPublic);
    }

    [Fact]
    public void A_browser_is_told_to_distrust_a_root_that_it_brought_along()
    {
        using var b = TrustBench.Of("nss");
        var before = b.Content();
        b.Order(TrustAct.Distrust, "ours");
        Assert.Contains(b.Thumbprint("ours"), b.Content().Split(" / ")[1]);
        b.Order(TrustAct.TrustAgain, "ours");
        Assert.Equal(before, b.Content());
    }

    [Fact]
    public void A_database_in_which_somebody_else_may_write_is_not_opened_with_the_agent_s_rights()
    {
        using var b = TrustBench.Of("nss");
        File.SetUnixFileMode(b.Place.Path, File.GetUnixFileMode(b.Place.Path) | UnixFileMode.OtherWrite);
        Refused("other accounts can write there", () => b.Order(TrustAct.Push, "ours"));
        Assert.Contains("chmod go-w", b.Found.Problem!.Cure);
        File.Delete(Path.Combine(b.Place.Path, "cert9.db"));
        Assert.Equal(0, Programs.Run("mkfifo", [Path.Combine(b.Place.Path, "cert9.db")]).Code);
        Assert.Contains("There is no cert9.db", b.Found.Problem!.Message);
    }

    [Fact]
    public void What_runs_when_the_bundle_is_made_is_not_run_where_somebody_else_may_write()
    {
        using var b = TrustBench.Of("system");
        var (hooks, ran) = (Path.Combine(b.Folder, "etc/ca-certificates/update.d"), Path.Combine(b.Folder, "ran"));
        File.WriteAllText(Path.Combine(hooks, "somebody"), $"#!/bin/sh\ntouch {ran}\n");
        File.SetUnixFileMode(Path.Combine(hooks, "somebody"), (UnixFileMode)0x1ED);
        File.SetUnixFileMode(hooks, File.GetUnixFileMode(hooks) | UnixFileMode.OtherWrite);
        Refused("other accounts can write there", () => b.Order(TrustAct.Push, "ours"));
        Assert.False(File.Exists(ran));
        Assert.Empty(b.Book.Of(b.Place));
    }

    [Fact]
    public void The_machine_s_own_bundle_is_read_whole()
    {
        var bundle = File.ReadAllText("/etc/ssl/certs/ca-certificates.crt");
        var count = bundle.Split("-----BEGIN CERTIFICATE-----").Length - 1;
        Assert.Equal(count, new SystemTrust(new(TrustKind.System, "/")).Read().Anchors.Count);
    }

    private static void Refused(string words, Action order)
    {
        var problem = Assert.Throws<BeaconProblem>(order);
        Assert.Contains(words, problem.Message);
        Assert.NotEmpty(problem.Cure);
    }
}
