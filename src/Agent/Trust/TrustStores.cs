using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Trust;

/// <summary>All trust stores of this host, and what each has: read again only when its files are others.</summary>
/// <param name="named">Those that a person named; null: those at the usual places.</param>
internal sealed class TrustStores(IReadOnlyList<TrustPlace>? named, Instances instances, TrustBook book)
{
    private const string DirectoryClients = "/etc/ldap/ldap.conf";

    /// <summary>What could not be read is tried again after as many reports.</summary>
    private const int RestAfterFailure = 10;

    private sealed record Known(string Stamp, int Count, string? Digest, IReadOnlyList<string> Distrusted)
    {
        public ProblemInfo? Problem { get; init; }

        /// <summary>Reports until it is read again.</summary>
        public int Rest { get; set; } = int.MaxValue;
    }

    private readonly Dictionary<TrustPlace, Known> _known = [];

    public IReadOnlyList<FoundTrustStore> Describe() => [.. All().Select(Describe)];

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotFound"/>: this agent does not look after it.</exception>
    public ITrustStore Find(TrustKind kind, string path) =>
        All().FirstOrDefault(s => s.Place.Kind == kind && s.Place.Path == path)
        ?? throw new BeaconProblem(
            ProblemCode.NotFound,
            $"There is no trust store {OpenWord<TrustKind>.WordOf(kind)}={path} that this agent looks after.",
            "See what it found: beacon trust list --host HOST; name one to it by beacon-agent trust."
        );

    private List<ITrustStore> All()
    {
        var stores = (named ?? Usual()).Select(Of).OfType<ITrustStore>().ToList();
        foreach (var c in instances.All)
            stores.AddRange(FilesOf(c).Select(f => new FileTrust(f, c)));
        return [.. stores.DistinctBy(s => (s.Place.Kind, s.Place.Path))];
    }

    private static IReadOnlyList<AnchorFile> FilesOf(IConnector c)
    {
        try
        {
            return [.. c.AnchorFiles(c.Files).Where(f => File.Exists(f.Path))];
        }
        catch (BeaconProblem)
        {
            return [];
        }
    }

    private ITrustStore? Of(TrustPlace place) =>
        place.Kind switch
        {
            TrustKind.System => new SystemTrust(place),
            TrustKind.Nss => new NssTrust(place),
            TrustKind.Java => new JavaTrust(place, book.WorkFolder),
            TrustKind.File => new FileTrust(new(place.Path, "its clients", LetsIn: false), null),
            _ => null,
        };

    /// <summary>Those at the usual places that are there.</summary>
    public static IEnumerable<TrustPlace> Usual()
    {
        if (SystemTrust.IsThere("/"))
            yield return new(TrustKind.System, "/");
        foreach (var path in JavaTrust.Usual())
            yield return new(TrustKind.Java, path);
        foreach (var folder in Homes().Select(h => Path.Combine(h, ".pki/nssdb")).Prepend("/etc/pki/nssdb").Where(NssTrust.IsThere))
            yield return new(TrustKind.Nss, folder);
        if (OfDirectoryClients() is { } file)
            yield return new(TrustKind.File, file);
    }

    private static IEnumerable<string> Homes() =>
        (Directory.Exists("/home") ? Directory.GetDirectories("/home").Order(StringComparer.Ordinal) : Enumerable.Empty<string>()).Prepend(
            "/root"
        );

    // ldap.conf(5): TLS_CACERT FILE.
    private static string? OfDirectoryClients() =>
        File.Exists(DirectoryClients)
            ? File.ReadLines(DirectoryClients)
                .Select(l => l.Split((char[])[' ', '\t'], StringSplitOptions.RemoveEmptyEntries))
                .Where(w => w.Length == 2 && w[0].Equals("TLS_CACERT", StringComparison.OrdinalIgnoreCase) && File.Exists(w[1]))
                // The system's own bundle is made, not written.
                .Where(w => Path.GetFileName(w[1]) != "ca-certificates.crt")
                .Select(w => w[1])
                .LastOrDefault()
            : null;

    private FoundTrustStore Describe(ITrustStore store)
    {
        var (place, reader) = (store.Place, store.Reader);
        var stamp = store.Stamp();
        if (!_known.TryGetValue(place, out var known) || known.Stamp != stamp || known.Rest-- <= 0)
            _known[place] = known = Know(store, stamp);
        return new(place.Kind, place.Path, reader, store.LetsIn, known.Count, known.Digest, Marks(place, known), known.Problem);
    }

    private static Known Know(ITrustStore store, string stamp)
    {
        try
        {
            var content = store.Read();
            var thumbprints = content.Anchors.Select(a => a.Thumbprint).Distinct().ToList();
            return new(stamp, thumbprints.Count, AnchorDigest.Of(thumbprints), content.Distrusted);
        }
        catch (Exception e) when (e is not (OperationCanceledException or OutOfMemoryException))
        {
            var problem = e is BeaconProblem p ? new ProblemInfo(p.Slug, p.Message, p.Cure) : Unreadable(store.Place, e);
            return new(stamp, 0, null, []) { Problem = problem, Rest = RestAfterFailure };
        }
    }

    private static ProblemInfo Unreadable(TrustPlace place, Exception e) =>
        new(
            BeaconProblem.SlugOf(ProblemCode.ConfigurationUnsupported),
            $"{place} cannot be read: {e.Message}",
            "Correct it, or report the message."
        );

    private List<MarkedAnchor> Marks(TrustPlace place, Known known)
    {
        var records = book.Of(place);
        return
        [
            .. records
                .Select(r => new MarkedAnchor(r.Thumbprint, r.Act == TrustAct.Push ? TrustMark.Pushed : TrustMark.Distrusted))
                .Concat(known.Distrusted.Select(t => new MarkedAnchor(t, TrustMark.Distrusted)))
                .DistinctBy(m => m.Thumbprint)
                .OrderBy(m => m.Thumbprint, StringComparer.Ordinal),
        ];
    }
}
