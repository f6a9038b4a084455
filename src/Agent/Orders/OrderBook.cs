using System.Text.Json;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Agent.Orders;

/// <summary>
/// Results on disk, so that each order is done once and reported until the service has taken it: <c>orders/N.json</c> waits,
/// <c>orders/N.sent.json</c> was taken and answers a second delivery.
/// </summary>
internal sealed class OrderBook(string state)
{
    private const int Kept = 200;
    private string Root => Path.Combine(state, "orders");

    public void Keep(long order, OrderResult result) =>
        AtomicFiles.Write(
            Path.Combine(Root, $"{order}.json"),
            JsonSerializer.SerializeToUtf8Bytes(result, AgentJson.Default.OrderResult),
            isPrivate: true
        );

    public OrderResult? Find(long order) => Read(Path.Combine(Root, $"{order}.json")) ?? Read(Path.Combine(Root, $"{order}.sent.json"));

    public IReadOnlyList<(long Order, OrderResult Result)> Unsent() =>
        !Directory.Exists(Root)
            ? []
            :
            [
                .. Directory
                    .GetFiles(Root, "*.json")
                    .Select(f => (Name: Path.GetFileName(f), Path: f))
                    .Where(f => !f.Name.EndsWith(".sent.json", StringComparison.Ordinal))
                    .Select(f => (Order: long.TryParse(f.Name[..^5], out var n) ? n : 0, Result: Read(f.Path)))
                    .Where(x => x is { Order: > 0, Result: not null })
                    .OrderBy(x => x.Order)
                    .Select(x => (x.Order, x.Result!)),
            ];

    public void Sent(long order)
    {
        var path = Path.Combine(Root, $"{order}.json");
        if (File.Exists(path))
            File.Move(path, Path.Combine(Root, $"{order}.sent.json"), overwrite: true);
        var sent = Directory.GetFiles(Root, "*.sent.json");
        if (sent.Length > Kept * 2)
            foreach (var old in sent.OrderByDescending(File.GetLastWriteTimeUtc).Skip(Kept))
                File.Delete(old);
    }

    private static OrderResult? Read(string path)
    {
        try
        {
            return File.Exists(path) ? JsonSerializer.Deserialize(File.ReadAllText(path), AgentJson.Default.OrderResult) : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }
}
