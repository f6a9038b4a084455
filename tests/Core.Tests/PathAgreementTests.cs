using System.Text;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Paths;

namespace OrderlyBeacon.Core.Tests;

/// <summary>Our judgement of paths beside that of openssl and of gnutls, on thousands of made ones. Where they differ, docs/judgement.md says why.</summary>
public sealed class PathAgreementTests
{
    private const int Count = 3000;

    /// <summary>Changes over which a judge differs from us, and which way: each has its line in docs/judgement.md.</summary>
    private static readonly (string Change, string Judge, bool WeAccept)[] Differences = ReadDifferences();

    private static (string, string, bool)[] ReadDifferences() =>
        [
            .. File.ReadLines(Path.Combine(Programs.Root, "docs", "judgement.md"))
                .Where(l => l.StartsWith("| `", StringComparison.Ordinal))
                .Select(l => l.Split('|', StringSplitOptions.TrimEntries))
                .Select(c => (c[1].Trim('`'), c[2], c[3] == "accept")),
        ];

    [Fact]
    public void We_judge_paths_as_openssl_and_gnutls_do()
    {
        using var s = new Scratch();
        var seed = int.TryParse(Environment.GetEnvironmentVariable("BEACON_PATHSEED"), out var given) ? given : 20261126;
        var maker = new PathMaker(seed);
        // Every change once alone, then one or two by chance.
        var paths = PathMaker.All.Select(c => maker.Make([c])).ToList();
        while (paths.Count < Count)
            paths.Add(maker.Next());
        for (var i = 0; i < paths.Count; i++)
            Write(s, i, paths[i]);
        RunJudges(s, paths.Count);
        var (openssl, gnutls) = (Verdicts(s, "openssl"), Verdicts(s, "gnutls"));
        var unexplained = new List<string>();
        var met = new HashSet<(string, string, bool)>();
        for (var i = 0; i < paths.Count; i++)
        {
            var (ours, told) = Judge(paths[i]);
            foreach (var (judge, theirs) in new[] { ("openssl", openssl[i]), ("gnutls", gnutls[i]) })
            {
                if (theirs == ours)
                    continue;
                var known = Differences.FirstOrDefault(d => d.Judge == judge && d.WeAccept == ours && paths[i].Changes.Contains(d.Change));
                if (known.Change is null)
                    unexplained.Add($"{i} {string.Join("+", paths[i].Changes)}: we {Word(ours)}, {judge} {Word(theirs)}; {told}");
                else
                    met.Add(known);
            }
        }
        Assert.True(unexplained.Count == 0, $"seed {seed}, {unexplained.Count} unexplained:\n" + string.Join('\n', unexplained.Take(400)));
        // What both accept and refuse is a good part of it, so that agreeing means something.
        Assert.InRange(Enumerable.Range(0, paths.Count).Count(i => openssl[i] && gnutls[i]), Count / 10, Count * 9 / 10);
        Assert.All(Differences, d => Assert.True(met.Contains(d), $"{d} is not met any more: take its line out of docs/judgement.md"));

        static string Word(bool accepts) => accepts ? "accept" : "refuse";
    }

    private static (bool, string) Judge(MadePath p)
    {
        try
        {
            X509[] sent = [.. p.Sent.Select(b => X509.Read(b))];
            var leaf = X509.Read(p.Leaf);
            var path = PathJudge.Judge(new(leaf, sent, [], [.. p.Anchors.Select(b => X509.Read(b))], PathMaker.Now));
            var fits = HostNameMatch.Of(p.Name, leaf.Names, leaf.Subject.CommonName) == NameMatch.Fits;
            return (path.IsAccepted && fits, fits ? path.Steps.LastOrDefault() ?? "" : "the name does not fit");
        }
        catch (BeaconProblem e)
        {
            return (false, e.Message);
        }
    }

    private static void Write(Scratch s, int i, MadePath p)
    {
        static string Pem(IEnumerable<byte[]> all) => string.Concat(all.Select(b => Armor.Write(Armor.Certificate, b)));
        s.File($"{i}.leaf", Pem([p.Leaf]));
        s.File($"{i}.sent", Pem(p.Sent));
        s.File($"{i}.chain", Pem([p.Leaf, .. p.Sent]));
        s.File($"{i}.roots", Pem(p.Anchors));
        s.File($"{i}.name", p.Name);
    }

    /// <summary>Both judges over all files, by a script, so that starting them costs least.</summary>
    private static void RunJudges(Scratch s, int count)
    {
        var at = PathMaker.Now.ToUnixTimeSeconds();
        s.File(
            "judge",
            $$"""
            cd {{s.Path}}
            for i in $(seq $1 2 {{count - 1}}); do
              read -r n <$i.name || true
              u=; [ -s $i.sent ] && u="-untrusted $i.sent"
              openssl verify -attime {{at}} -auth_level 2 -purpose sslserver -verify_hostname $n -no-CApath -no-CAstore -CAfile $i.roots $u $i.leaf >/dev/null 2>&1 && echo $i 1 || echo $i 0
            done >openssl.$1
            for i in $(seq $1 2 {{count - 1}}); do
              read -r n <$i.name || true
              certtool --verify --verify-profile medium --verify-purpose 1.3.6.1.5.5.7.3.1 --verify-hostname $n --load-ca-certificate $i.roots --infile $i.chain >/dev/null 2>&1 && echo $i 1 || echo $i 0
            done >gnutls.$1
            """
        );
        Parallel.For(
            0,
            2,
            half =>
            {
                var (code, _, error) = Programs.Run(
                    "bash",
                    [s["judge"], half.ToString()],
                    null,
                    new Dictionary<string, string> { ["TZ"] = "UTC" },
                    seconds: 600
                );
                Assert.True(code == 0, error);
            }
        );
    }

    private static bool[] Verdicts(Scratch s, string judge) =>
        [
            .. File.ReadLines(s[judge + ".0"])
                .Concat(File.ReadLines(s[judge + ".1"]))
                .Select(l => l.Split(' '))
                .OrderBy(p => int.Parse(p[0]))
                .Select(p => p[1] == "1"),
        ];
}
