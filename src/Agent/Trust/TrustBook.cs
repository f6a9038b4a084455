using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Agent.Trust;

/// <summary>What an order did to an anchor in a store, with all that is needed to take it back. It is on the disk before the change.</summary>
/// <param name="Act"><see cref="TrustAct.Push"/> or <see cref="TrustAct.Distrust"/>.</param>
/// <param name="Anchor">DER, Base64.</param>
/// <param name="Memo">What the store said before.</param>
internal sealed record TrustRecord(TrustKind Kind, string Path, string Thumbprint, TrustAct Act, string Anchor, string Memo);

/// <summary>The records, one file for each store and anchor: <c>trust/NAME.json</c>.</summary>
internal sealed class TrustBook(string state)
{
    private string Root => Path.Combine(state, "trust");

    /// <summary>For copies while a store is changed.</summary>
    public string WorkFolder => Path.Combine(Root, "work");

    private string PathOf(TrustPlace place, string thumbprint) =>
        Path.Combine(Root, Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes($"{place}\n{thumbprint}"))[..16]) + ".json");

    public TrustRecord? Find(TrustPlace place, string thumbprint) => Read(PathOf(place, thumbprint));

    public IReadOnlyList<TrustRecord> Of(TrustPlace place) =>
        Directory.Exists(Root)
            ?
            [
                .. Directory
                    .GetFiles(Root, "*.json")
                    .Select(Read)
                    .OfType<TrustRecord>()
                    .Where(r => r.Kind == place.Kind && r.Path == place.Path),
            ]
            : [];

    public void Keep(TrustPlace place, TrustRecord record) =>
        AtomicFiles.Write(
            PathOf(place, record.Thumbprint),
            JsonSerializer.SerializeToUtf8Bytes(record, AgentJson.Default.TrustRecord),
            isPrivate: true
        );

    public void Forget(TrustPlace place, string thumbprint) => File.Delete(PathOf(place, thumbprint));

    private static TrustRecord? Read(string path)
    {
        try
        {
            return File.Exists(path) ? JsonSerializer.Deserialize(File.ReadAllText(path), AgentJson.Default.TrustRecord) : null;
        }
        catch (JsonException)
        {
            return null;
        }
    }
}
