using System.Text;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>What the documents say of the contract suite is what it has.</summary>
public sealed class MatrixTests
{
    private static readonly IReadOnlyList<string> Kinds =
    [
        .. typeof(ContractTests)
            .Assembly.GetTypes()
            .Where(t => t.IsSubclassOf(typeof(ContractTests)) && t != typeof(LanternContractTests))
            .Select(t => t.Name[..^nameof(ContractTests).Length])
            .Order(StringComparer.Ordinal),
    ];

    /// <summary>The documents say what the suite tries; with BEACON_WRITE_DOCS=1 they are written anew.</summary>
    [Fact]
    public void The_matrix_in_the_documents_is_this_suite()
    {
        var matrix = new StringBuilder();
        matrix.AppendLine($"| law | {string.Join(" | ", Kinds)} |");
        matrix.AppendLine($"|---|{string.Concat(Kinds.Select(_ => ":-:|"))}");
        foreach (var (test, law) in ContractTests.AllLaws)
        {
            Assert.NotNull(typeof(ContractTests).GetMethod(test));
            matrix.AppendLine($"| {law} | {string.Join(" | ", Kinds.Select(_ => "✓"))} |");
        }
        var path = Path.Combine(Programs.Root, "docs/connectors.md");
        var text = File.ReadAllText(path);
        const string begin = "<!-- matrix -->\n",
            end = "<!-- end of matrix -->";
        var (from, to) = (text.IndexOf(begin, StringComparison.Ordinal) + begin.Length, text.IndexOf(end, StringComparison.Ordinal));
        if (Environment.GetEnvironmentVariable("BEACON_WRITE_DOCS") == "1")
            File.WriteAllText(path, text[..from] + matrix + text[to..]);
        else
            Assert.Equal(matrix.ToString(), text[from..to]);
    }
}
