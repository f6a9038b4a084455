using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Agent.Trust;

/// <summary>A trust store to look after.</summary>
/// <param name="Path">Its file or folder; of the system's bundle, the folder that its paths start from.</param>
internal sealed record TrustPlace(TrustKind Kind, string Path)
{
    /// <summary>File with the passphrase of a Java keystore, where it is not the usual one.</summary>
    public string? PassphraseFile { get; init; }

    public override string ToString() => $"{OpenWord<TrustKind>.WordOf(Kind)}={Path}";

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>.</exception>
    public static TrustPlace Parse(string text)
    {
        var parts = text.Split('=', 2);
        return parts.Length == 2 && OpenWord<TrustKind>.Of(parts[0]) is var kind and not TrustKind.Unknown && parts[1].StartsWith('/')
            ? new(kind, System.IO.Path.GetFullPath(parts[1]))
            : throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"\"{text}\" names no trust store.",
                "Write system=/ or nss=/FOLDER or java=/FILE or file=/FILE."
            );
    }
}

/// <summary>An anchor as a store has it: kept as bytes, since old roots need not be readable by us to be trusted by others.</summary>
internal readonly record struct Anchor(ReadOnlyMemory<byte> Der)
{
    public string Thumbprint => Core.Names.Thumbprint.Of(Der.Span).Hex;

    public string Pem => Armor.Write(Armor.Certificate, Der.Span);

    /// <summary>A name for files and aliases that no other anchor has.</summary>
    public string Label => "beacon-" + Thumbprint[..16];

    public static IReadOnlyList<Anchor> In(string pem) =>
        pem.Contains("-----BEGIN ", StringComparison.Ordinal)
            ?
            [
                .. Armor
                    .Read(System.Text.Encoding.Latin1.GetBytes(pem))
                    .Blocks.Where(b => b.Label == Armor.Certificate)
                    .Select(b => new Anchor(b.Der)),
            ]
            : [];
}

/// <param name="Distrusted">Fingerprints that the store itself marks as distrusted.</param>
internal sealed record TrustContent(IReadOnlyList<Anchor> Anchors, IReadOnlyList<string> Distrusted)
{
    public bool Has(string thumbprint) => Anchors.Any(a => a.Thumbprint == thumbprint);
}

/// <summary>
/// Where clients of one kind look up whom they trust. To change it: <see cref="Memo"/>, keep that durably, then <see cref="Do"/>; both may be done again after a kill. What was done is
/// seen by reading the store again.
/// </summary>
internal interface ITrustStore
{
    TrustPlace Place { get; }

    /// <summary>Who trusts by it, in words.</summary>
    string Reader { get; }

    /// <summary>Whether it says whose certificates clients may come in with.</summary>
    bool LetsIn { get; }

    /// <summary>Something that is another when the content may be.</summary>
    string Stamp();

    /// <exception cref="BeaconProblem">It cannot be read.</exception>
    TrustContent Read();

    /// <exception cref="BeaconProblem">Whoever has to take up a change cannot at present: nothing is to be changed.</exception>
    void ThrowUnlessReady() { }

    /// <summary>What has to be known to take the change back.</summary>
    /// <param name="act"><see cref="TrustAct.Push"/> or <see cref="TrustAct.Distrust"/>.</param>
    /// <exception cref="BeaconProblem">It cannot be done here; nothing was changed.</exception>
    string Memo(TrustAct act, Anchor anchor);

    /// <param name="memo">What <see cref="Memo"/> said before the change, or before the one that is taken back.</param>
    /// <exception cref="BeaconProblem">It failed; it may be done by half.</exception>
    void Do(TrustAct act, Anchor anchor, string memo);

    /// <summary>What a person reads about the change, before it.</summary>
    string Told(TrustAct act);
}

/// <summary>Stamps of files.</summary>
internal static class Stamps
{
    public static string Of(params string[] paths) =>
        string.Join(' ', paths.Select(p => new FileInfo(p)).Select(f => f.Exists ? $"{f.LastWriteTimeUtc.Ticks}:{f.Length}" : "-"));
}
