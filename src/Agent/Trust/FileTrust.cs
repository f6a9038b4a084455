using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;

namespace OrderlyBeacon.Agent.Trust;

/// <summary>A file of anchors that a server, or a kind of client, has for itself.</summary>
/// <param name="LetsIn">Whether it says whose certificates clients may come in with.</param>
internal sealed record AnchorFile(string Path, string Reader, bool LetsIn)
{
    /// <summary>By which a server decides whose certificates its clients may come in with.</summary>
    /// <param name="path">As its configuration names it; null and empty when it does not.</param>
    /// <param name="folder">The folder that relative paths start from.</param>
    public static IEnumerable<AnchorFile> OfClients(string? path, string folder, InstanceId server) =>
        At(path, folder).Select(full => new AnchorFile(full, $"{server.Name}, of clients that show a certificate", LetsIn: true));

    /// <summary>By which a server decides which other servers it believes.</summary>
    /// <param name="whom">As in <c>of servers behind it</c>.</param>
    public static IEnumerable<AnchorFile> OfServers(string? path, string folder, InstanceId server, string whom) =>
        At(path, folder).Select(full => new AnchorFile(full, $"{server.Name}, {whom}", LetsIn: false));

    private static IEnumerable<string> At(string? path, string folder) =>
        string.IsNullOrEmpty(path) || path.Contains('\0') || folder.Contains('\0')
            ? []
            : [System.IO.Path.GetFullPath(System.IO.Path.Combine("/", ByteText.Show(folder), ByteText.Show(path)))];
}

/// <summary>A PEM file of anchors. What else stands in it stays, and taken back it is as it was to the byte, unless somebody else changed it meanwhile.</summary>
/// <param name="server">Has to take it up; null where it is read each time.</param>
internal sealed class FileTrust(AnchorFile file, IConnector? server) : ITrustStore
{
    private readonly IFiles _files = server?.Files ?? new HostFiles();

    public TrustPlace Place { get; } = new(TrustKind.File, file.Path);

    public string Reader => file.Reader;

    public bool LetsIn => file.LetsIn;

    public string Stamp() => Stamps.Of(file.Path);

    public TrustContent Read() => new(Anchor.In(_files.Read(file.Path)), []);

    public void ThrowUnlessReady()
    {
        if (server?.IsRunning() == true)
            server.Test(server.Files);
    }

    public string Memo(TrustAct act, Anchor anchor)
    {
        var before = _files.Read(file.Path);
        if (act == TrustAct.Distrust && Anchor.In(before).Count < 2)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"It is the only anchor in {file.Path}: without any, {file.Reader} would not work, or would trust everybody.",
                "Push another anchor first."
            );
        return before;
    }

    public string Told(TrustAct act) =>
        (act is TrustAct.Push or TrustAct.TrustAgain ? $"it goes into {file.Path}" : $"it is taken out of {file.Path}")
        + (server is null ? "" : $", and {server.Id.Name} takes it up");

    public void Do(TrustAct act, Anchor anchor, string memo)
    {
        var now = _files.Read(file.Path);
        Write(
            act switch
            {
                TrustAct.Push => With(now, anchor),
                TrustAct.Distrust => Without(now, anchor),
                TrustAct.Withdraw => now == With(memo, anchor) ? memo : Without(now, anchor),
                _ => now == Without(memo, anchor) ? memo : With(now, anchor),
            },
            now
        );
    }

    /// <summary>A server that refuses what would be keeps what it has.</summary>
    private void Write(string after, string before)
    {
        var account = server?.Needs.Reader?.User;
        if (after != before)
            AtomicFiles.Replace(file.Path, ByteText.Bytes(after), account);
        if (server?.IsRunning() != true)
            return;
        try
        {
            server.Test(server.Files);
        }
        catch (BeaconProblem) when (after != before)
        {
            AtomicFiles.Replace(file.Path, ByteText.Bytes(before), account);
            throw;
        }
        server.TakeUp();
    }

    private static string With(string text, Anchor anchor)
    {
        if (Anchor.In(text).Any(a => a.Thumbprint == anchor.Thumbprint))
            return text;
        var line = ByteText.NewLineOf(text);
        var gap = text.Length == 0 || text.EndsWith('\n') ? "" : line;
        return text + gap + anchor.Pem.Replace("\n", line, StringComparison.Ordinal);
    }

    private static string Without(string text, Anchor anchor)
    {
        var lines = text.Split('\n');
        var gone = Armor
            .Read(ByteText.Bytes(text))
            .Blocks.Where(b => b.Label == Armor.Certificate && new Anchor(b.Der).Thumbprint == anchor.Thumbprint)
            .SelectMany(b => Enumerable.Range(b.Line - 1, EndOf(lines, b.Line - 1) - b.Line + 2))
            .ToHashSet();
        return string.Join('\n', lines.Where((_, i) => !gone.Contains(i)));
    }

    private static int EndOf(string[] lines, int begin) =>
        Array.FindIndex(lines, begin, l => l.TrimStart().StartsWith("-----END ", StringComparison.Ordinal));
}
