using System.Text.Json;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>What a service's configuration was before it was bound, and what we made of it: enough to take a binding out again.</summary>
/// <param name="Service">The service as this host names it.</param>
/// <param name="Files">Each file that we changed, as <see cref="ByteText"/>; null in records of an agent before 0.2.</param>
internal sealed record BoundRecord(string Service, string Certificate, IReadOnlyList<FileEdit>? Files)
{
    public IReadOnlyList<string>? AddedListeners { get; init; }
    public string? OldCertificate { get; init; }
    public string? OldKey { get; init; }

    /// <summary>Of what was required: the lowest version of TLS; null when none was.</summary>
    public LowestTls? Lowest { get; init; }

    /// <summary>Of what was required: clear text goes on, the versions alone were limited.</summary>
    public bool KeepsClearText { get; init; }

    /// <summary>What an agent before 0.2 kept; null for today's records.</summary>
    public EarlierBound? Earlier() => Files is null ? new(AddedListeners ?? [], OldCertificate, OldKey) : null;
}

/// <summary>What an agent before 0.2 kept of a site.</summary>
/// <param name="AddedListeners">Arguments of the listen directives that it added.</param>
/// <param name="OldCertificate">The certificate file that was named before; null when there was none.</param>
internal sealed record EarlierBound(IReadOnlyList<string> AddedListeners, string? OldCertificate, string? OldKey);

/// <summary>What was in each service's configuration before it was bound, <c>bound/NAME.json</c>; and before TLS, or a version of it, was required of it, <c>required/NAME.json</c>.</summary>
internal sealed class BoundBook(string state, string folder = "bound")
{
    private string Root => Path.Combine(state, folder);

    /// <summary>What was there before TLS was required: a layer upon what a binding made.</summary>
    public BoundBook Demands => new(state, "required");

    private string PathOf(string service) => Path.Combine(Root, CertificateStore.FolderName(service) + ".json");

    // Until 0.1 different names could share a file: what stands in it says whose it is.
    private string EarlierPathOf(string service) =>
        Path.Combine(Root, string.Concat(service.Select(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' ? c : '_')) + ".json");

    public BoundRecord? Find(string service) => Read(PathOf(service), service) ?? Read(EarlierPathOf(service), service);

    /// <summary>Services that were bound to a certificate.</summary>
    public IReadOnlyList<string> ServicesOf(string certificate) =>
        !Directory.Exists(Root)
            ? []
            :
            [
                .. Directory
                    .GetFiles(Root, "*.json")
                    .Select(f => Read(f, null))
                    .OfType<BoundRecord>()
                    .Where(r => r.Certificate == certificate)
                    .Select(r => r.Service)
                    .Distinct(),
            ];

    private static BoundRecord? Read(string path, string? service) =>
        File.Exists(path)
        && JsonSerializer.Deserialize(File.ReadAllText(path), AgentJson.Default.BoundRecord) is { } record
        && (service is null || record.Service == service)
            ? record
            : null;

    public void Keep(BoundRecord record) =>
        AtomicFiles.Write(
            PathOf(record.Service),
            JsonSerializer.SerializeToUtf8Bytes(record, AgentJson.Default.BoundRecord),
            isPrivate: true
        );

    public void Forget(string service)
    {
        File.Delete(PathOf(service));
        if (Read(EarlierPathOf(service), service) is not null)
            File.Delete(EarlierPathOf(service));
    }
}
