using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Devices.Shell;

/// <summary>
/// The kinds of devices with a shell that this agent knows: those that came with it, and files in a folder of its own. What they say is run on devices, so they come from the
/// agent's host alone, never from the service.
/// </summary>
internal sealed class DeviceKinds(string folder)
{
    private const int MostBytes = 64 << 10;
    private static readonly System.Reflection.Assembly Here = typeof(DeviceKinds).Assembly;

    public static IReadOnlyList<string> Shipped { get; } =
    [
        .. Here.GetManifestResourceNames()
            .Where(r => r.EndsWith(".yaml", StringComparison.Ordinal))
            .Select(r => Path.GetFileNameWithoutExtension(r["kinds/".Length..]))
            .Order(StringComparer.Ordinal),
    ];

    private IEnumerable<string> Own =>
        Directory.Exists(folder) ? Directory.GetFiles(folder, "*.yaml").Select(f => Path.GetFileNameWithoutExtension(f)!) : [];

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotFound"/>, or <see cref="ProblemCode.ConfigurationBroken"/> with the line that is wrong.</exception>
    public DeviceKind Get(string kind)
    {
        var known = Own.Union(Shipped).Order(StringComparer.Ordinal).ToList();
        if (!known.Contains(kind))
            throw new BeaconProblem(
                ProblemCode.NotFound,
                $"This agent does not know devices of the kind \"{kind}\"; it knows {Appliance.Kind}, {string.Join(", ", known)}.",
                $"Use one of them, or describe it on the agent's host: {Path.Combine(folder, kind + ".yaml")}; see docs/guide/ways.md."
            );
        var path = Path.Combine(folder, kind + ".yaml");
        var (text, from) = File.Exists(path) ? (ReadOwn(path), path) : (ReadShipped(kind), kind + ".yaml");
        var read = DeviceKindYaml.Read(text, from);
        return read.Kind == kind
            ? read
            : throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"{from} describes the kind \"{read.Kind}\".",
                $"Name the file {read.Kind}.yaml, or correct its field kind."
            );
    }

    private static string ReadShipped(string kind)
    {
        using var stream = Here.GetManifestResourceStream($"kinds/{kind}.yaml")!;
        using var reader = new StreamReader(stream);
        return reader.ReadToEnd();
    }

    private static string ReadOwn(string path)
    {
        var file = new FileInfo(path);
        if (file.Length > MostBytes)
            throw new BeaconProblem(
                ProblemCode.ConfigurationBroken,
                $"{path} has {file.Length} bytes.",
                "A kind of device takes some thirty lines."
            );
        const UnixFileMode others = UnixFileMode.GroupWrite | UnixFileMode.OtherWrite;
        if ((File.GetUnixFileMode(path) & others) != 0)
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"Others than its owner may change {path}, and what it says is run on devices. It was not read.",
                $"chmod go-w {path}"
            );
        return File.ReadAllText(path);
    }
}
