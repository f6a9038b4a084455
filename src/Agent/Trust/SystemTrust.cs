using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Trust;

/// <summary>
/// The system's bundle as <c>update-ca-certificates(8)</c> makes it: of the certificates that <c>ca-certificates.conf</c> names, without those that it crosses out, and of all that lie in
/// the machine's own folder.
/// </summary>
internal sealed class SystemTrust(TrustPlace place) : ITrustStore
{
    private const string Crossed = "!",
        Named = "named ",
        Own = "own ";

    private readonly HostFiles _files = new();

    public const string Program = "/usr/sbin/update-ca-certificates";

    private string ListPath => In("etc/ca-certificates.conf");
    private string PublicFolder => In("usr/share/ca-certificates");
    private string OwnFolder => In("usr/local/share/ca-certificates");
    private string HooksFolder => In("etc/ca-certificates/update.d");
    private string BundlePath => In("etc/ssl/certs/ca-certificates.crt");

    private string In(string path) => Path.Combine(place.Path, path);

    public static bool IsThere(string root) => File.Exists(Program) && File.Exists(Path.Combine(root, "etc/ca-certificates.conf"));

    public TrustPlace Place => place;

    public string Reader => "most programs of the system";

    public bool LetsIn => false;

    public string Stamp() => Stamps.Of(BundlePath, ListPath);

    public TrustContent Read() => new(Anchor.In(_files.Read(BundlePath)), []);

    public string Told(TrustAct act) =>
        act switch
        {
            TrustAct.Push => $"its file goes into {OwnFolder}, and the bundle is made anew",
            TrustAct.Withdraw => $"its file in {OwnFolder} is deleted, and the bundle is made anew",
            TrustAct.Distrust => $"it is crossed out in {ListPath}, and the bundle is made anew",
            _ => $"{ListPath} has it again, and the bundle is made anew",
        };

    /// <summary>What runs when the bundle is made runs as the agent does: nobody else may write there.</summary>
    public void ThrowUnlessReady()
    {
        foreach (var folder in new[] { HooksFolder, OwnFolder, PublicFolder, Path.GetDirectoryName(BundlePath)! })
            SafeFolder.Open(folder).Dispose();
    }

    /// <summary>Where a distrusted anchor came from: lines of the list, and files of the machine's own folder.</summary>
    public string Memo(TrustAct act, Anchor anchor)
    {
        if (act == TrustAct.Push)
            return "";
        var named = Lines().Where(l => IsNamed(l) && IsOf(Path.Combine(PublicFolder, l), anchor)).Select(l => Named + l);
        var own = _files
            .FilesIn(OwnFolder)
            .Where(f => f.EndsWith(".crt", StringComparison.Ordinal) && IsOf(f, anchor))
            .Select(f => Own + f);
        var from = named.Concat(own).ToList();
        return from.Count > 0
            ? string.Join('\n', from)
            : throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"{BundlePath} has it, and neither {ListPath} nor {OwnFolder} says from where.",
                "Somebody has edited the bundle by hand: run update-ca-certificates, then look again."
            );
    }

    public void Do(TrustAct act, Anchor anchor, string memo)
    {
        var pushed = Path.Combine(OwnFolder, anchor.Label + ".crt");
        switch (act)
        {
            case TrustAct.Push:
                AtomicFiles.Write(pushed, ByteText.Bytes(anchor.Pem), isPrivate: false);
                break;
            case TrustAct.Withdraw:
                File.Delete(pushed);
                break;
            default:
                foreach (var from in memo.Split('\n', StringSplitOptions.RemoveEmptyEntries))
                    if (from.StartsWith(Own, StringComparison.Ordinal))
                        Lay(from[Own.Length..], anchor, act);
                    else
                        Cross(from[Named.Length..], act);
                break;
        }
        Make();
    }

    private static void Lay(string path, Anchor anchor, TrustAct act)
    {
        if (act == TrustAct.Distrust)
            File.Delete(path);
        else
            AtomicFiles.Write(path, ByteText.Bytes(anchor.Pem), isPrivate: false);
    }

    private void Cross(string name, TrustAct act)
    {
        var (from, to) = act == TrustAct.Distrust ? (name, Crossed + name) : (Crossed + name, name);
        var text = _files.Read(ListPath);
        var lines = text.Split('\n').Select(l => l.TrimEnd('\r') == from ? l.Replace(from, to, StringComparison.Ordinal) : l);
        AtomicFiles.Replace(ListPath, ByteText.Bytes(string.Join('\n', lines)));
    }

    private void Make()
    {
        var certificates = Path.GetDirectoryName(BundlePath)!;
        var (code, output, error) = ServerProcess.Run([
            Program,
            .. new[] { "--certsconf", ListPath, "--certsdir", PublicFolder, "--localcertsdir", OwnFolder },
            .. new[] { "--etccertsdir", certificates, "--hooksdir", HooksFolder },
        ]);
        if (code != 0)
            throw new BeaconProblem(
                ProblemCode.CannotWrite,
                $"update-ca-certificates failed: {(error.Length > 0 ? error : output).Trim().Split('\n')[^1]}",
                "Run it by hand on the host, and correct what it says."
            );
    }

    private IEnumerable<string> Lines() => _files.Read(ListPath).Split('\n').Select(l => l.TrimEnd('\r'));

    private static bool IsNamed(string line) =>
        line.Length > 0 && line[0] is not ('#' or '!') && !line.Contains("..", StringComparison.Ordinal);

    private bool IsOf(string path, Anchor anchor) =>
        _files.Find(path) is { } text && Anchor.In(text) is { Count: 1 } only && only[0].Thumbprint == anchor.Thumbprint;
}
