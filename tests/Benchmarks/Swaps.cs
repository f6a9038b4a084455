using System.Diagnostics;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Agent.Tests.Contract;
using OrderlyBeacon.Testing;

namespace OrderlyBeacon.Benchmarks;

/// <summary>One certificate swapped in Postfix, Dovecot and nginx together, beside what their own commands take to reload and openssl to look at each of their ways in.</summary>
internal static class Swaps
{
    private const int Turns = 7;

    public static async Task RunAsync(Action<string, double, double, string> atMost)
    {
        Console.WriteLine("\nA swap in three servers");
        using var postfix = new PostfixServer();
        using var dovecot = new DovecotServer { Bench = postfix.Bench };
        using var nginx = new NginxServer { Bench = postfix.Bench };
        RealServer[] servers = [postfix, dovecot, nginx];
        foreach (var s in servers)
        {
            s.Configure(null);
            s.Start();
        }
        string[] names = [postfix.Name, nginx.Name];
        var (bench, began, told) = (postfix.Bench, Stopwatch.StartNew(), Environment.GetEnvironmentVariable("BEACON_STEPS") is not null);
        void Tell(string step)
        {
            if (told)
                Console.WriteLine($"    {began.ElapsedMilliseconds, 6} {step}");
        }
        var run = new SwapRun(bench.Store, bench.Journal, bench.Bounds, TimeProvider.System, Tell);
        Task SwapAsync()
        {
            began.Restart();
            return run.BindAsync(
                bench.NextOrder(),
                bench.Issue("mail", names),
                [.. servers.Select(s => s.Ref)],
                nginx.Doors[0].Port,
                [bench.Root],
                CancellationToken.None
            );
        }
        await SwapAsync();
        var turns = new List<(double Swap, double Reload)>();
        for (var i = 0; i < Turns; i++)
        {
            var clock = Stopwatch.StartNew();
            await SwapAsync();
            var swap = clock.Elapsed.TotalMilliseconds;
            turns.Add((swap, Reloads(postfix, dovecot, nginx)));
        }
        var middle = turns.OrderBy(t => t.Swap / t.Reload).ElementAt(Turns / 2);
        atMost($"{middle.Swap:0} ms ÷ {middle.Reload:0} ms for reloading and looking", middle.Swap / middle.Reload, 3, "×");
    }

    private static double Reloads(PostfixServer postfix, DovecotServer dovecot, NginxServer nginx)
    {
        var clock = Stopwatch.StartNew();
        Run("/usr/sbin/postfix", "-c", postfix.ConfigFolder, "reload");
        Run("/usr/bin/doveadm", "-c", dovecot.MainFile, "reload");
        Run("/usr/sbin/nginx", "-e", nginx.Folder + "/error.log", "-p", nginx.Folder, "-c", nginx.MainFile, "-s", "reload");
        foreach (var s in new RealServer[] { postfix, dovecot, nginx })
        foreach (var door in s.Doors)
            _ = s.Served(door) ?? throw new InvalidOperationException($"{s.Name} serves nothing at {door.Port}");
        return clock.Elapsed.TotalMilliseconds;
    }

    private static void Run(string program, params string[] args)
    {
        var (code, _, error) = Programs.Run(program, args);
        if (code != 0)
            throw new InvalidOperationException(error);
    }
}
