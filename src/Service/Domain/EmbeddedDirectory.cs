using OrderlyBeacon.Core;
using YamlDotNet.Core;
using YamlDotNet.RepresentationModel;

namespace OrderlyBeacon.Service.Domain;

/// <summary>
/// A directory in one YAML file, for who has none: <c>computers</c> (with <c>names</c>, <c>principals</c>), <c>people</c>, and <c>groups</c> with their members, which may be
/// groups. It is read again when it was changed; a file that cannot be read is a directory that does not answer.
/// </summary>
internal sealed class EmbeddedDirectory(string path) : IDirectory
{
    private const int MostBytes = 4 << 20;

    private readonly Lock _reading = new();
    private Content? _content;
    private DateTime _written;

    public string Called => $"the directory file {path}";

    public ValueTask<string> RealmAsync(CancellationToken ct) => new("");

    public Task<DirectoryComputer?> ComputerOfAccountAsync(string account, CancellationToken ct) =>
        Task.FromResult(Read().Computers.GetValueOrDefault(account.ToLowerInvariant()));

    public Task<IReadOnlyList<DirectoryComputer>> ComputersOfNameAsync(string name, CancellationToken ct) =>
        Task.FromResult<IReadOnlyList<DirectoryComputer>>([.. Read().ByName[name]]);

    public Task<DirectoryPerson?> PersonAsync(string name, CancellationToken ct) =>
        Task.FromResult(Read().People.GetValueOrDefault(name.ToLowerInvariant()));

    public Task<IReadOnlyDictionary<string, IReadOnlyList<string>>> OwnersAsync(IReadOnlyCollection<string> names, CancellationToken ct)
    {
        var owners = Read().Owners;
        return Task.FromResult<IReadOnlyDictionary<string, IReadOnlyList<string>>>(
            names.Distinct().Where(owners.Contains).ToDictionary(n => n, n => (IReadOnlyList<string>)[.. owners[n].Distinct()])
        );
    }

    /// <summary>A file has no objects: what is published stands in a folder beside it, one file for each computer.</summary>
    public async Task PublishAsync(string account, byte[] certificate, IReadOnlyList<byte[]> instead, CancellationToken ct)
    {
        if (!Read().Computers.ContainsKey(account.ToLowerInvariant()))
            return;
        try
        {
            var folder = Directory.CreateDirectory(path + ".published").FullName;
            var file = Path.Combine(folder, $"{account.TrimEnd('$').ToLowerInvariant()}.cer");
            var making = file + ".making";
            await File.WriteAllBytesAsync(making, certificate, ct);
            File.Move(making, file, overwrite: true);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw Away(e.Message);
        }
    }

    private sealed record Content(
        IReadOnlyDictionary<string, DirectoryComputer> Computers,
        IReadOnlyDictionary<string, DirectoryPerson> People,
        ILookup<string, DirectoryComputer> ByName,
        ILookup<string, string> Owners
    );

    private Content Read()
    {
        try
        {
            var written = File.GetLastWriteTimeUtc(path);
            lock (_reading)
            {
                if (_content is not null && _written == written)
                    return _content;
                if (new FileInfo(path).Length > MostBytes)
                    throw Away("it is larger than 4 MB");
                (_content, _written) = (Parse(File.ReadAllText(path)), written);
                return _content;
            }
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw Away(e.Message);
        }
        catch (ArgumentException e)
        {
            // Names are the same whatever their case, and a computer's with or without its dollar sign.
            throw Away($"something is in it twice: {e.Message.TrimEnd('.')}");
        }
        catch (YamlException e)
        {
            throw Away($"line {e.Start.Line}: {e.InnerException?.Message ?? e.Message}");
        }
    }

    private BeaconProblem Away(string why) =>
        new(
            ProblemCode.DirectoryAway,
            $"The directory file {path} cannot be read: {why}.",
            "Correct the file; it is read again by itself. Nothing is granted on its word until then."
        );

    private Content Parse(string text)
    {
        var stream = new YamlStream();
        stream.Load(new StringReader(text));
        if (stream.Documents.Count == 0)
            throw Away("it is empty");
        var root = Map(stream.Documents[0].RootNode, "the file");
        foreach (var key in root.Keys.Where(k => k is not ("computers" or "people" or "groups")))
            throw Away($"\"{key}\" is not a part of it; there are computers, people and groups");
        var groups = Section(root, "groups").ToDictionary(g => g.Key.ToLowerInvariant(), g => Texts(g.Value, $"group {g.Key}"));
        var above = Above(groups);
        var computers = Section(root, "computers").Select(c => Computer(c.Key, c.Value, above)).ToList();
        var people = Section(root, "people")
            .Select(p => p.Key.ToLowerInvariant())
            .Union(groups.Values.SelectMany(m => m).Select(m => m.ToLowerInvariant()));
        var names = computers.SelectMany(c => c.Names.Select(n => (Name: n, Computer: c))).ToList();
        return new(
            computers.ToDictionary(c => c.Account.ToLowerInvariant()),
            people
                .Where(p => !groups.ContainsKey(p) && !p.EndsWith('$'))
                .ToDictionary(p => p, p => new DirectoryPerson(p, p, GroupsOf(p, above), IsEnabled: true)),
            names.ToLookup(n => n.Name, n => n.Computer),
            names
                .Select(n => (n.Name, n.Computer.Account))
                .Concat(computers.SelectMany(c => c.Principals.Select(p => (Name: DirectoryBook.HostOf(p), c.Account))))
                .ToLookup(n => n.Name, n => n.Account)
        );
    }

    private DirectoryComputer Computer(string name, YamlNode node, IReadOnlyDictionary<string, List<string>> above)
    {
        var fields = Map(node, $"computer {name}");
        var account = name.TrimEnd('$').ToUpperInvariant() + "$";
        List<string> Of(string field) => fields.TryGetValue(field, out var list) ? Texts(list, $"{field} of {name}") : [];
        foreach (var key in fields.Keys.Where(k => k is not ("names" or "principals")))
            throw Away($"\"{key}\" of {name} is not known; a computer has names and principals");
        return new(
            account,
            account,
            [.. Of("names").Select(n => n.ToLowerInvariant().TrimEnd('.'))],
            Of("principals"),
            GroupsOf(account.ToLowerInvariant(), above),
            IsEnabled: true,
            IsUsersOwn: false
        );
    }

    /// <summary>For each member, the groups that name it.</summary>
    private static Dictionary<string, List<string>> Above(IReadOnlyDictionary<string, List<string>> groups)
    {
        var above = new Dictionary<string, List<string>>();
        foreach (var (group, members) in groups)
        foreach (var member in members)
        {
            var key = member.ToLowerInvariant();
            if (!above.TryGetValue(key, out var list))
                above[key] = list = [];
            list.Add(group);
        }
        return above;
    }

    /// <summary>Groups may name each other in a circle: each is taken once.</summary>
    private static List<DirectoryGroup> GroupsOf(string member, IReadOnlyDictionary<string, List<string>> above)
    {
        var found = new HashSet<string>();
        var open = new Queue<string>([member]);
        while (open.TryDequeue(out var next))
            foreach (var group in above.GetValueOrDefault(next, []))
                if (found.Add(group))
                    open.Enqueue(group);
        return [.. found.Order().Select(g => new DirectoryGroup(g, null))];
    }

    private IEnumerable<KeyValuePair<string, YamlNode>> Section(Dictionary<string, YamlNode> root, string name) =>
        root.TryGetValue(name, out var node) && node is not YamlScalarNode { Value: null or "" } ? Map(node, name) : [];

    private Dictionary<string, YamlNode> Map(YamlNode node, string what)
    {
        if (node is YamlScalarNode { Value: null or "" })
            return [];
        if (node is not YamlMappingNode map)
            throw Away($"line {node.Start.Line}: {what} is not a list of names with their values");
        var all = new Dictionary<string, YamlNode>();
        foreach (var (key, value) in map.Children)
            all[Text(key, what)] = value;
        return all;
    }

    private List<string> Texts(YamlNode node, string what) =>
        node switch
        {
            YamlSequenceNode list => [.. list.Children.Select(c => Text(c, what))],
            YamlScalarNode { Value: null or "" } => [],
            _ => throw Away($"line {node.Start.Line}: {what} is not a list"),
        };

    private string Text(YamlNode node, string what) =>
        node is YamlScalarNode { Value: { Length: > 0 and <= 256 } value }
            ? value
            : throw Away($"line {node.Start.Line}: in {what} there is something that is not a name");
}
