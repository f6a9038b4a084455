using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Trust;

/// <summary>
/// An NSS database, changed by NSS's own <c>certutil</c> as the account that owns it. It says what was added to the roots that come with a browser: those are in no file of the host.
/// Trust for servers is a <c>C</c> in the first flags, distrust a <c>p</c>.
/// </summary>
internal sealed class NssTrust(TrustPlace place) : ITrustStore
{
    private const string Database = "cert9.db",
        Trusting = "C,,",
        Prohibited = "p,p,p";
    private const int MostCertificates = 300;

    private string Folder => place.Path;

    public static bool IsThere(string folder) => File.Exists(Path.Combine(folder, Database));

    public TrustPlace Place => place;

    public string Reader => "browsers" + (ServerAccount.OwnerOf(Folder) is { } a ? $" of {a.Name}" : "");

    public bool LetsIn => false;

    public string Stamp() => Stamps.Of(Path.Combine(Folder, Database));

    private readonly record struct Entry(string Nickname, string Flags, Anchor Certificate);

    public TrustContent Read()
    {
        var entries = Entries();
        return new(
            [.. entries.Where(e => ForServers(e.Flags).Contains('C')).Select(e => e.Certificate)],
            [.. entries.Where(e => ForServers(e.Flags).Contains('p')).Select(e => e.Certificate.Thumbprint)]
        );
    }

    private static string ForServers(string flags) => flags.Split(',')[0];

    /// <summary>What the database had of the certificate: its nickname and flags; empty when nothing.</summary>
    public string Memo(TrustAct act, Anchor anchor) =>
        Entries().Where(e => e.Certificate.Thumbprint == anchor.Thumbprint).Select(e => $"{e.Flags}\n{e.Nickname}").FirstOrDefault() ?? "";

    public string Told(TrustAct act) =>
        act switch
        {
            TrustAct.Push => $"it is trusted for servers in {Folder}",
            TrustAct.Distrust => $"it is marked as distrusted in {Folder}",
            _ => $"{Folder} says of it what it said before",
        };

    public void Do(TrustAct act, Anchor anchor, string memo)
    {
        var there = Entries().Where(e => e.Certificate.Thumbprint == anchor.Thumbprint).ToList();
        if (act is TrustAct.Push or TrustAct.Distrust)
            Mark(there, anchor, act == TrustAct.Push ? Trusting : Prohibited);
        else if (memo.Split('\n', 2) is [var flags, _])
            Mark(there, anchor, flags);
        else
            foreach (var e in there)
                Run([], "-D", "-n", e.Nickname);
    }

    private void Mark(List<Entry> there, Anchor anchor, string flags)
    {
        if (there.Count == 0)
            Run(anchor.Der.ToArray(), "-A", "-n", anchor.Label, "-t", flags);
        foreach (var e in there)
            Run([], "-M", "-n", e.Nickname, "-t", flags);
    }

    private List<Entry> Entries()
    {
        // A pipe in its place would hold whoever opens it up for ever.
        using var database =
            SafeFolder.OpenRegular(Path.Combine(Folder, Database))
            ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no {Database} in {Folder}.", "Name another: beacon-agent trust.");
        var entries = new List<Entry>();
        foreach (var line in Run([], "-L").Split('\n').Skip(1))
        {
            // Nickname, blanks, three groups of flags.
            var text = line.TrimEnd();
            var blank = text.LastIndexOf(' ');
            if (blank < 0 || text[blank..].Count(c => c == ',') != 2 || text.Contains("SSL,S/MIME", StringComparison.Ordinal))
                continue;
            if (entries.Count == MostCertificates)
                throw new BeaconProblem(
                    ProblemCode.TooLarge,
                    $"{Folder} has more than {MostCertificates} certificates.",
                    "Take out what is not needed: certutil -D."
                );
            var nickname = text[..blank].TrimEnd();
            foreach (var a in Anchor.In(Run([], "-L", "-a", "-n", nickname)))
                entries.Add(new(nickname, text[(blank + 1)..], a));
        }
        return entries;
    }

    private string Run(byte[] input, params string[] command)
    {
        string[] all = ["certutil", .. command, "-d", "sql:" + Folder];
        // NSS loads what the database's own list of modules names: it is never opened with more rights than who may write that list has.
        if (ServerAccount.OwnerOf(Folder) is { } owner)
            all = owner.Command(all);
        else
            SafeFolder.Open(Folder).Dispose();
        var (code, output, error) = ServerProcess.RunWith(input, all);
        return code == 0
            ? output
            : throw new BeaconProblem(
                ProblemCode.CannotWrite,
                $"certutil does not do it in {Folder}: {error.Trim().Split('\n')[0]}",
                "Look whether the database has a password of its own or is used by another program; then order it again."
            );
    }
}
