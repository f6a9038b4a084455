using System.Text;
using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using static OrderlyBeacon.Service.Tests.AttackedWorld;

namespace OrderlyBeacon.Service.Tests;

/// <summary>Every command that prints, at 40, 80 and 160 columns, to a terminal and to a pipe, on data that was written to trouble a terminal.</summary>
public sealed partial class TerminalTests(AttackedWorld world) : IClassFixture<AttackedWorld>
{
    private const string Escape = "\u001b]0;owned\u0007";
    private const string Words = "[red]not [bold]markup[/] [[x]] [link=http://bad.example]here[/] 漢字かな العربية Straße ";
    private const string Evil = Words + Escape + "\u009b31m \u202Egnirts\tend\r";
    private static readonly string LongWord = new('w', 240);

    [Fact]
    public async Task Nothing_that_prints_breaks_or_lets_data_speak_to_the_terminal()
    {
        using var s = new Scratch();
        var home = world.Home();
        var host = $"t{Guid.NewGuid().ToString("N")[..8]}.thistledown.example";
        var (agent, _) = await world.JoinAsync(s, host);
        await ReportAsync(agent, [], [host, "second." + host]);
        var wish = Wish(Csrs.Make(s, $"DNS:*.{host}"));
        wish["note"] = Evil + LongWord;
        // Control characters are refused at the door; what gets past it elsewhere is shown escaped.
        var (refused, state) = await AskAsync(world.Robin, wish);
        Assert.True(state == "not taken" && refused.Code == "input-invalid", refused.ToString());
        wish["note"] = Words + LongWord;
        var (asked, _) = await AskAsync(world.Robin, wish);
        var number = asked.Json!["number"]!.ToString();
        var refuse = await CallAsync(
            world.Wren,
            "POST",
            $"requests/{number}/refuse",
            new JsonObject { ["reason"] = Words + LongWord }.ToJsonString()
        );
        Assert.True(refuse.IsDone, refuse.ToString());
        var (good, _) = await AskAsync(world.Robin, Wish(Csrs.Make(s, $"DNS:c.{host}")));
        var certificate = good.Json!["certificate"]!.GetValue<string>();
        var odd = s.File("odd [red] 漢字.pem", good.ToString());
        var pem = s["cert.pem"];
        Assert.Equal(0, world.Beacon(home, "cert", "export", certificate, "--form", "pem", "--out", pem).Code);

        string[][] commands =
        [
            ["status"],
            ["lookahead"],
            ["host", "list"],
            ["host", "show", host],
            ["service", "list"],
            ["service", "show", $"{host}/{host}"],
            ["request", "list"],
            ["request", "show", number],
            ["request", "new", "--host", host, "--name", host, "--name", "[red].example", "--preview"],
            ["profile", "list"],
            ["profile", "show", "server"],
            ["cert", "list"],
            ["cert", "show", certificate],
            ["cert", "find", "thistledown"],
            ["cert", "revoke-all", "--name", host],
            ["inspect", odd],
            ["inspect", pem],
            ["authority", "list"],
            ["authority", "show", "issuing"],
            ["authority", "show", "root"],
            ["authority", "health"],
            ["authority", "rehearse", "issuing", "--new-key", "ec-p256"],
            ["journal", "list"],
            ["journal", "verify"],
            ["person", "list"],
            ["consent", "list"],
            ["backup", "--out", s["b.sealed"]],
            ["cert", "show", "[red]no such[/]" + Escape],
            ["host", "show", Evil],
            ["--help"],
            ["request", "new", "--help"],
            ["nonsense[/]"],
        ];
        var runs = commands.SelectMany(c => new[] { 0, 40, 80, 160 }.Select(width => (c, width))).ToList();
        // A file on the standard output has no width.
        runs.Add((["profile", "export", "server"], 0));
        // It waits for the host's agent, which is none here: first, beside the others.
        runs.InsertRange(0, [(["look", "localhost:1"], 0), (["look", "localhost:1"], 80)]);
        var faults = new System.Collections.Concurrent.ConcurrentBag<string>();
        Parallel.ForEach(
            System.Collections.Concurrent.Partitioner.Create(runs, System.Collections.Concurrent.EnumerablePartitionerOptions.NoBuffering),
            new ParallelOptions { MaxDegreeOfParallelism = 4 },
            run =>
            {
                foreach (var fault in Faults(run.width, run.width == 0 ? Piped(home, run.c) : OnTerminal(home, run.c, run.width)))
                    faults.Add(
                        $"beacon {string.Join(' ', run.c).ReplaceLineEndings(" ")} at {(run.width == 0 ? "a pipe" : run.width)}: {fault}"
                    );
            }
        );
        Assert.True(faults.IsEmpty, string.Join("\n", faults.Take(30)));
        // What was written is shown as it was written, harmless.
        var shown = Piped(home, ["request", "show", number]);
        Assert.Contains("[red]not [bold]markup[/] [[x]]", Regex.Replace(shown, @"\s+", " "));
        Assert.Contains("漢字かな", shown);
    }

    /// <summary>Who sits at a terminal is asked before something is revoked for good; a script is not.</summary>
    [Fact]
    public async Task What_cannot_be_taken_back_is_asked_first()
    {
        using var s = new Scratch();
        var home = world.Home();
        var (asked, _) = await AskAsync(world.Robin, Wish(Csrs.Make(s, $"DNS:r{Guid.NewGuid().ToString("N")[..8]}.thistledown.example")));
        var name = asked.Json!["certificate"]!.GetValue<string>();
        string State() => world.Beacon(home, "cert", "show", name, "--json").Output;
        var said = OnTerminal(home, ["cert", "revoke", name], 80, "n\n");
        Assert.Contains("cannot be taken back", Regex.Replace(said, @"\s+", " "));
        Assert.Contains("Nothing was revoked.", said);
        Assert.Contains("\"revokedAt\": null", State());
        Assert.Contains("is revoked", Regex.Replace(OnTerminal(home, ["cert", "revoke", name], 80, "y\n"), @"\s+", " "));
        Assert.DoesNotContain("\"revokedAt\": null", State());
    }

    private static IEnumerable<string> Faults(int width, string text)
    {
        if (text.Contains("   at ") || text.Contains("Exception"))
            yield return "a trace: " + text[..Math.Min(400, text.Length)];
        if (text.Contains("]0;owned\u0007") && text.Contains("\u001b]0;"))
            yield return "data reached the terminal as a command";
        if (text.Contains('\u009b') || text.Contains('\u202e') || text.Contains('\u0007'))
            yield return "a control character of the data was printed";
        var plain = Styling().Replace(text, "");
        if (plain.Contains('\u001b'))
            yield return "an escape that is no styling: " + plain[Math.Max(0, plain.IndexOf('\u001b') - 20)..].Split('\n')[0];
        if (width == 0 && text.Contains('\u001b'))
            yield return "styling in a pipe";
        if (text.Trim().Length == 0)
            yield return "nothing was printed";
        // Only a word that has no room may be wider than the terminal; what goes to the standard error is one line, for logs too.
        var tooWide =
            width == 0 || plain.Contains("beacon: ") || plain.Contains("Unrecognized")
                ? null
                : plain
                    .Split('\n')
                    .Select(l => l.TrimEnd('\r', ' '))
                    .FirstOrDefault(l => Cells(l) > width && l.Trim().Contains(' ') && LongestWord(l) < width - 12);
        if (tooWide is not null)
            yield return $"a line of {Cells(tooWide)} cells: {tooWide}";
    }

    private static int LongestWord(string line) => line.Split(' ').Max(Cells);

    private static int Cells(string text) =>
        text.EnumerateRunes()
            .Sum(r =>
                r.Value is >= 0x1100 and (<= 0x115F or (>= 0x2E80 and <= 0xA4CF) or (>= 0xAC00 and <= 0xD7A3) or (>= 0xFF00 and <= 0xFF60))
                    ? 2
                    : 1
            );

    /// <summary>Colours, and what the runtime says to a terminal when it begins.</summary>
    [GeneratedRegex(@"\x1b(\[[0-9;?]*[A-Za-z]|[=>])")]
    private static partial Regex Styling();

    private string Piped(string home, string[] command)
    {
        var (_, output, error) = world.Beacon(home, command);
        return output + error;
    }

    /// <summary>On a terminal of that width, by script(1).</summary>
    private static string OnTerminal(string home, string[] command, int width, string typed = "")
    {
        var quoted = string.Join(' ', command.Select(c => "'" + c.Replace("'", "'\\''") + "'"));
        var line = $"stty cols {width} rows 50; '{Own.Client}' {quoted}";
        var (_, output, _) = Programs.Run(
            "script",
            ["-qec", line, "/dev/null"],
            Encoding.UTF8.GetBytes(typed),
            new Dictionary<string, string>
            {
                ["BEACON_HOME"] = home,
                ["TERM"] = "xterm-256color",
                ["SHELL"] = "/bin/bash",
                ["COLUMNS"] = width.ToString(),
            }
        );
        return output;
    }
}
