using System.Reflection;
using System.Text.Json.Serialization;
using System.Text.RegularExpressions;
using Microsoft.CodeAnalysis.CSharp;
using Microsoft.CodeAnalysis.CSharp.Syntax;
using Microsoft.EntityFrameworkCore.Migrations;
using Microsoft.EntityFrameworkCore.Migrations.Operations;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Tests;

/// <summary>The walls of the house, asserted from the assemblies.</summary>
public sealed partial class ArchitectureTests
{
    private static Assembly Load(string name) => Assembly.LoadFrom(Path.Combine(AppContext.BaseDirectory, name + ".dll"));

    private static string[] Ours(string name) =>
        [
            .. Load(name)
                .GetReferencedAssemblies()
                .Select(a => a.Name!)
                .Where(n => n.StartsWith("OrderlyBeacon") || n.StartsWith("beacon"))
                .Order(),
        ];

    [Fact]
    public void References_go_one_way()
    {
        Assert.Empty(Ours("OrderlyBeacon.Core"));
        Assert.Empty(Ours("OrderlyBeacon.Contracts"));
        Assert.Equal(["OrderlyBeacon.Contracts", "OrderlyBeacon.Core"], Ours("OrderlyBeacon.Probes"));
        Assert.Equal(["OrderlyBeacon.Contracts", "OrderlyBeacon.Core"], Ours("beacon"));
        foreach (var name in new[] { "beacond", "beacon-agent" })
            Assert.Equal(["OrderlyBeacon.Contracts", "OrderlyBeacon.Core", "OrderlyBeacon.Probes"], Ours(name));
    }

    /// <summary>An agent has contexts of its own for its messages: both sides must write and read them alike.</summary>
    [Fact]
    public void Agents_and_the_service_mean_the_same_json()
    {
        static string Shape(JsonSerializerContext context, Type type) =>
            string.Join(
                ", ",
                context
                    .GetTypeInfo(type)!
                    .Properties.Select(p => $"{p.Name}: {p.PropertyType} {p.IsRequired} {p.IsGetNullable} {p.IsSetNullable}")
            );
        var types = typeof(AgentMessageJson).GetProperties().Select(p => p.PropertyType.GenericTypeArguments).Where(a => a.Length == 1);
        var messages = types.Select(a => a[0]).ToList();
        Assert.Contains(typeof(AgentReport), messages);
        foreach (var type in messages)
            Assert.Equal(Shape(BeaconJson.Default, type), Shape(AgentMessageJson.Default, type));
    }

    [Fact]
    public void Core_uses_the_base_library_alone() =>
        Assert.All(typeof(BeaconProblem).Assembly.GetReferencedAssemblies(), a => Assert.StartsWith("System.", a.Name));

    [Fact]
    public void Core_touches_no_file_socket_clock_or_console()
    {
        // Members of these types would be I/O, time or shared state.
        string[] forbidden =
        [
            "System.IO.File",
            "System.IO.FileStream",
            "System.IO.Directory",
            "System.Net.Sockets.Socket",
            "System.Net.Sockets.TcpClient",
            "System.Net.Dns",
            "System.Net.Http",
            "System.Console",
            "System.Diagnostics.Process",
            "System.Threading.Timer",
            "System.TimeProvider",
        ];
        var used = TypesUsed(typeof(BeaconProblem).Assembly.Location);
        Assert.All(forbidden, f => Assert.DoesNotContain(used.Types, t => t == f || t.StartsWith(f + ".", StringComparison.Ordinal)));
        foreach (
            var member in new[]
            {
                "DateTimeOffset.get_UtcNow",
                "DateTime.get_UtcNow",
                "DateTime.get_Now",
                "DateTimeOffset.get_Now",
                "RandomNumberGenerator.GetBytes",
                "Random.get_Shared",
            }
        )
            Assert.DoesNotContain(member, used.Members);
    }

    /// <summary>Methods that only list what there is: commands with their options, the database's tables.</summary>
    [GeneratedRegex(@"\bCommand \w+\(|IEnumerable<Command> \w+\(|void OnModelCreating\(")]
    private static partial Regex Lists();

    /// <summary>Not what tools write: builds, migrations, the database's compiled model.</summary>
    private static bool IsWrittenByHand(string file) =>
        !new[] { "/obj/", "/bin/", "/Migrations/", "/Storage/Compiled/" }.Any(file.Contains);

    private static IEnumerable<string> Sources(string folder) =>
        Directory.EnumerateFiles(Path.Combine(Programs.Root, folder), "*.cs", SearchOption.AllDirectories).Where(IsWrittenByHand);

    /// <summary>A choice among several is a table (switch) or steps, not a question within a question.</summary>
    [Fact]
    public void No_conditional_is_within_another()
    {
        var nested =
            from file in Sources("src").Concat(Sources("tests"))
            let tree = CSharpSyntaxTree.ParseText(File.ReadAllText(file), path: file)
            from outer in tree.GetRoot().DescendantNodes().OfType<ConditionalExpressionSyntax>()
            where new[] { outer.Condition, outer.WhenTrue, outer.WhenFalse }.Any(e => Bare(e) is ConditionalExpressionSyntax)
            select $"{Path.GetFileName(file)}:{outer.GetLocation().GetLineSpan().StartLinePosition.Line + 1}";
        var said = string.Join("\n", nested);
        Assert.True(said.Length == 0, said);

        static ExpressionSyntax Bare(ExpressionSyntax e) => e is ParenthesizedExpressionSyntax p ? Bare(p.Expression) : e;
    }

    [Fact]
    public void Methods_are_read_at_a_glance()
    {
        const int most = 60;
        var tooLong = Sources("src").SelectMany(f => MethodsOf(f).Where(m => m.Lines > most && !Lists().IsMatch(m.Head)));
        var said = string.Join("\n", tooLong.Select(m => $"{m.Head}: {m.Lines} lines"));
        Assert.True(said.Length == 0, said);
    }

    /// <summary>By the formatter's indentation: a method with a body begins and ends at the same depth.</summary>
    private static IEnumerable<(string Head, int Lines)> MethodsOf(string file)
    {
        var lines = File.ReadAllLines(file);
        for (var i = 1; i < lines.Length; i++)
        {
            if (lines[i] is not ("    {" or "        {"))
                continue;
            var indent = lines[i][..^1];
            var head = i - 1;
            while (head > 0 && (lines[head].StartsWith(indent + " ") || lines[head].StartsWith(indent + ")")))
                head--;
            var end = Array.FindIndex(lines, i, l => l.StartsWith(indent + "}"));
            var isMethod =
                lines[head].Contains('(')
                && !lines[head].EndsWith("= new()")
                && !lines[head].Contains(" class ")
                && !lines[head].Contains(" record ");
            if (isMethod && indent.Length > 0 && (indent.Length == 4 || !lines[head].TrimStart().StartsWith("if ")))
                yield return ($"{Path.GetFileName(file)}: {lines[head].Trim()}", end - head + 1);
        }
    }

    /// <summary>The client makes only the commands of the group that is meant: each is found by its own name.</summary>
    [Fact]
    public void Commands_are_in_the_group_that_names_them()
    {
        const BindingFlags any = BindingFlags.Static | BindingFlags.Instance | BindingFlags.Public | BindingFlags.NonPublic;
        var groups = (Array)Load("beacon").GetType("OrderlyBeacon.Cli.Program")!.GetField("Groups", any)!.GetValue(null)!;
        Assert.NotEmpty(groups);
        foreach (var group in groups)
        {
            var verbs = (string[])group.GetType().GetProperty("Verbs", any)!.GetValue(group)!;
            var make = (Delegate)group.GetType().GetProperty("Make", any)!.GetValue(group)!;
            var names = ((IEnumerable<object>)make.DynamicInvoke()!).Select(c => (string)c.GetType().GetProperty("Name")!.GetValue(c)!);
            Assert.Equal(verbs, names);
        }
    }

    [Fact]
    public void Constructors_take_seven_parts_at_most()
    {
        var types = new[] { "beacond", "beacon-agent", "beacon", "OrderlyBeacon.Core" }
            .SelectMany(n => Load(n).GetTypes())
            // A record is a shape of data, with as many members as there are facts.
            .Where(t => t.GetMethod("<Clone>$") is null && !t.Name.Contains('<') && !typeof(Delegate).IsAssignableFrom(t));
        var wide = types
            .SelectMany(t => t.GetConstructors(BindingFlags.Instance | BindingFlags.Public | BindingFlags.NonPublic))
            .Where(c => c.GetParameters().Length > 7);
        Assert.Empty(wide.Select(c => $"{c.DeclaringType}: {c.GetParameters().Length}"));
    }

    [Fact]
    public void Core_keeps_no_changing_state()
    {
        foreach (
            var t in typeof(BeaconProblem)
                .Assembly.GetTypes()
                .Where(t => !t.Name.Contains('<') && !(t.FullName ?? "").Contains("PrivateImplementationDetails"))
        )
        foreach (
            var f in t.GetFields(BindingFlags.Static | BindingFlags.Public | BindingFlags.NonPublic)
                .Where(f => !f.Name.Contains('<') || f.Name.EndsWith("k__BackingField", StringComparison.Ordinal))
        )
            Assert.True(f.IsLiteral || f.IsInitOnly, $"{t.FullName}.{f.Name} can change");
    }

    [Fact]
    public void The_newest_migration_is_known_by_name()
    {
        static string Of(Type t) => t.GetCustomAttribute<MigrationAttribute>()!.Id;
        // Were it an older one, the newest would never be applied.
        Assert.Equal(Migrations().Select(Of).Max(StringComparer.Ordinal), Of(Storage.Database.Newest));
    }

    [Fact]
    public void A_migration_is_one_transaction()
    {
        // For these SQLite's tables are made anew, outside of the transaction: a death in between would leave a database that neither version can use.
        Type[] makeAnew =
        [
            typeof(AlterColumnOperation),
            typeof(DropColumnOperation),
            typeof(AddForeignKeyOperation),
            typeof(DropForeignKeyOperation),
            typeof(AddPrimaryKeyOperation),
            typeof(DropPrimaryKeyOperation),
        ];
        foreach (var type in Migrations())
        {
            var migration = (Migration)Activator.CreateInstance(type)!;
            Assert.DoesNotContain(
                migration.UpOperations,
                o => makeAnew.Contains(o.GetType()) || o is SqlOperation { SuppressTransaction: true }
            );
        }
    }

    private static IEnumerable<Type> Migrations() =>
        typeof(Storage.Database).Assembly.GetTypes().Where(t => t.GetCustomAttribute<MigrationAttribute>() is not null);

    [Fact]
    public void Each_sentence_about_security_names_a_test_that_there_is()
    {
        var page = File.ReadAllText(Path.Combine(Programs.Root, "docs", "security.md"));
        var tests = Directory
            .EnumerateFiles(Path.Combine(Programs.Root, "tests"), "*Tests.cs", SearchOption.AllDirectories)
            .ToLookup(f => Path.GetFileNameWithoutExtension(f), File.ReadAllText);
        var named = 0;
        foreach (Match m in Regex.Matches(page, @"`(\w+Tests)(?:\.(\w+?)(_…)?)?`"))
        {
            var sources = tests[m.Groups[1].Value];
            Assert.True(sources.Any(), $"docs/security.md names {m.Groups[1].Value}, which is not there");
            var end = m.Groups[3].Success ? @"_\w+" : "";
            Assert.True(
                m.Groups[2].Length == 0 || sources.Any(s => Regex.IsMatch(s, $@"(void|Task) {m.Groups[2].Value}{end}\(")),
                $"docs/security.md names {m.Value}, which is not there"
            );
            named++;
        }
        Assert.True(named > 20, "the page's form has changed");
        Assert.DoesNotContain(
            page.Split('\n'),
            row => row.StartsWith("| ", StringComparison.Ordinal) && row.TrimEnd().EndsWith("| |", StringComparison.Ordinal)
        );
    }

    /// <summary>Words that readers in haste stumble over, and what is said instead.</summary>
    private static readonly (string Retired, string Instead)[] RetiredWords =
    [
        (@"\blaps(e|es|ed)\b", "expire"),
        (@"\b[Mm]end(s|ed)?\b", "fix, correct"),
        (@"(?<![$.@])\b[Tt]humbprints?\b", "SHA-256 fingerprint"),
        (@"goes on as it is", "keeps issuing"),
        (@"\bis not here\b", "is offline, is missing"),
        (@"who may ask at all", "allowed to request"),
        (@"It is not said", "is missing, is not set"),
        (@"\bshall listen\b", "will listen"),
        (@"\b[Ff]ound a root\b|\bfound it\b", "create"),
    ];

    [Fact]
    public void What_people_read_is_in_plain_words()
    {
        var faults = new List<string>();
        foreach (
            var (file, text) in Sources("src", "*.cs", "\"(?:[^\"\\\\\n]|\\\\.)*\"")
                .Concat(Sources("console/src", "*.tsx", "'[^'\n]*'|>[^<>{}]+<|`[^`]*`"))
        )
        foreach (var (retired, instead) in RetiredWords)
            // A single word is a name, not a sentence.
            if (text.Contains(' ') && Regex.IsMatch(text, retired))
                faults.Add($"{file}: {text.Trim()} (say: {instead})");
        Assert.True(faults.Count == 0, string.Join('\n', faults));
    }

    private static IEnumerable<(string File, string Text)> Sources(string folder, string pattern, string texts) =>
        Directory
            .EnumerateFiles(Path.Combine(Programs.Root, folder), pattern, SearchOption.AllDirectories)
            .Where(IsWrittenByHand)
            .SelectMany(f =>
                Regex
                    .Matches(File.ReadAllText(f), texts)
                    .Select(m => (Path.GetRelativePath(Programs.Root, f), Regex.Replace(m.Value, @"\{[^{}]*\}", "…")))
            );

    [Fact]
    public void What_a_list_can_be_narrowed_to_is_offered_by_its_page()
    {
        var lists = new (string Page, IReadOnlyList<string> States)[]
        {
            ("Hosts.tsx", [.. Hosts.HostQueries.States, .. Bindings.ServiceQueries.States]),
            ("Certificates.tsx", Certificates.CertificateList.States),
        };
        Assert.Empty(
            from list in lists
            let page = File.ReadAllText(Path.Combine(Programs.Root, "console", "src", "pages", list.Page))
            from state in list.States
            where !Regex.IsMatch(page, $@"\s'{Regex.Escape(state)}',|\['{Regex.Escape(state)}'|, '{Regex.Escape(state)}'[,\]]")
            select $"{list.Page}: {state}"
        );
    }

    [Fact]
    public void Authority_keys_are_used_in_one_class()
    {
        var sources = Directory
            .EnumerateFiles(Path.Combine(Programs.Root, "src", "Service"), "*.cs", SearchOption.AllDirectories)
            .Where(f => !f.Contains("/obj/") && !f.Contains("/bin/"));
        Assert.Equal(
            ["AuthorityKeys.cs", "RecoveryKeys.cs"],
            sources
                .Where(f => File.ReadAllText(f).Contains("ImportFromEncryptedPem") || File.ReadAllText(f).Contains("ExportEncryptedPkcs8"))
                .Select(Path.GetFileName)
        );
    }

    private static (HashSet<string> Types, HashSet<string> Members) TypesUsed(string path)
    {
        using var stream = File.OpenRead(path);
        using var pe = new System.Reflection.PortableExecutable.PEReader(stream);
        var m = System.Reflection.Metadata.PEReaderExtensions.GetMetadataReader(pe);
        var types = new HashSet<string>();
        var members = new HashSet<string>();
        foreach (var h in m.TypeReferences)
        {
            var t = m.GetTypeReference(h);
            types.Add($"{m.GetString(t.Namespace)}.{m.GetString(t.Name)}");
        }
        foreach (var h in m.MemberReferences)
        {
            var r = m.GetMemberReference(h);
            if (r.Parent.Kind == System.Reflection.Metadata.HandleKind.TypeReference)
                members.Add(
                    $"{m.GetString(m.GetTypeReference((System.Reflection.Metadata.TypeReferenceHandle)r.Parent).Name)}.{m.GetString(r.Name)}"
                );
        }
        return (types, members);
    }
}
