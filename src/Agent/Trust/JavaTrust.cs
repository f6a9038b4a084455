using System.Text;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;

namespace OrderlyBeacon.Agent.Trust;

/// <summary>A Java keystore of anchors, changed by Java's own <c>keytool</c> on a copy that then takes the file's place in one step.</summary>
/// <param name="work">A folder of the agent's own.</param>
internal sealed class JavaTrust(TrustPlace place, string work) : ITrustStore
{
    private const string UsualPassphrase = "changeit";
    private const string Alias = "Alias name: ";

    /// <summary>It runs for a moment: what is compiled for long runs costs more than it saves.</summary>
    private static readonly string[] Quickly = ["-J-XX:TieredStopAtLevel=1", "-J-Xshare:auto"];

    public TrustPlace Place => place;

    public string Reader => "programs in Java";

    public bool LetsIn => false;

    public string Stamp() => Stamps.Of(place.Path);

    public TrustContent Read() =>
        new([.. JavaKeystore.Anchors(Bytes(), Passphrase()).Select(der => new Anchor(der)).DistinctBy(a => a.Thumbprint)], []);

    /// <summary>The aliases that it had.</summary>
    public string Memo(TrustAct act, Anchor anchor) => act == TrustAct.Push ? "" : string.Join('\n', AliasesOf(place.Path, anchor));

    private byte[] Bytes() =>
        ByteText.Bytes(
            new HostFiles().Find(place.Path)
                ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no {place.Path}.", "Name another: beacon-agent trust.")
        );

    private string Passphrase()
    {
        if (place.PassphraseFile is not { } file)
            return UsualPassphrase;
        var text = new HostFiles().Find(file);
        return text is not null
            ? Encoding.UTF8.GetString(ByteText.Bytes(text)).TrimEnd('\r', '\n')
            : throw new BeaconProblem(
                ProblemCode.NotFound,
                $"There is no {file}, the passphrase of {place.Path}.",
                "Put it back, or name another: beacon-agent trust."
            );
    }

    public string Told(TrustAct act) =>
        act is TrustAct.Push or TrustAct.TrustAgain
            ? $"it goes into {place.Path}; programs that run already take it up when they are started again"
            : $"it is taken out of {place.Path}; programs that run already go on trusting it until they are started again";

    public void Do(TrustAct act, Anchor anchor, string memo)
    {
        var copy = Path.Combine(work, $"{Guid.NewGuid():N}.keystore");
        try
        {
            AtomicFiles.Write(copy, Bytes(), isPrivate: true);
            var takesOut = act is TrustAct.Withdraw or TrustAct.Distrust;
            if (Read().Has(anchor.Thumbprint) != takesOut)
                return;
            if (takesOut)
                foreach (var alias in AliasesOf(copy, anchor))
                    Run([], copy, "-delete", "-alias", alias);
            else
                foreach (var alias in AliasesFor(act, anchor, memo))
                    Run(anchor.Der.ToArray(), copy, "-importcert", "-noprompt", "-alias", alias);
            AtomicFiles.Replace(place.Path, File.ReadAllBytes(copy));
        }
        finally
        {
            File.Delete(copy);
        }
    }

    private static string[] AliasesFor(TrustAct act, Anchor anchor, string memo) =>
        act == TrustAct.TrustAgain && memo.Length > 0 ? memo.Split('\n') : [anchor.Label];

    private List<string> AliasesOf(string store, Anchor anchor) =>
        [.. Entries(store).Where(e => e.Certificate.Thumbprint == anchor.Thumbprint).Select(e => e.Alias)];

    private List<(string Alias, Anchor Certificate)> Entries(string store)
    {
        var entries = new List<(string, Anchor)>();
        foreach (var part in ("\n" + Run([], store, "-list", "-rfc")).Split("\n" + Alias).Skip(1))
            entries.AddRange(Anchor.In(part).Take(1).Select(a => (part.Split('\n')[0].Trim(), a)));
        return entries;
    }

    private string Run(byte[] input, string store, params string[] command)
    {
        string[] passphrase = place.PassphraseFile is { } file ? ["-storepass:file", file] : ["-storepass", UsualPassphrase];
        var (code, output, error) = ServerProcess.RunWith(input, [Program(), .. Quickly, .. command, "-keystore", store, .. passphrase]);
        return code == 0
            ? output
            : throw new BeaconProblem(
                ProblemCode.CannotWrite,
                $"keytool does not do it in {place.Path}: {(error + output).Trim().Split('\n')[0]}",
                "With another passphrase than Java's usual one, name a file with it: passphraseFile in agent.json."
            );
    }

    private static string Program() =>
        File.Exists("/usr/bin/keytool")
            ? "/usr/bin/keytool"
            : Machines().Select(m => Path.Combine(m, "bin/keytool")).FirstOrDefault(File.Exists) ?? "keytool";

    /// <summary>Java machines of this host.</summary>
    private static IEnumerable<string> Machines() => Directory.Exists("/usr/lib/jvm") ? Directory.GetDirectories("/usr/lib/jvm") : [];

    /// <summary>Their keystores of anchors, each once whatever leads to it.</summary>
    public static IEnumerable<string> Usual() =>
        Machines()
            .Select(m => Path.Combine(m, "lib/security/cacerts"))
            .Where(File.Exists)
            .Select(p => File.ResolveLinkTarget(p, returnFinalTarget: true)?.FullName ?? p)
            .Distinct();
}
