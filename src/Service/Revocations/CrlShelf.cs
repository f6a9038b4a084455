using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;

namespace OrderlyBeacon.Service.Revocations;

/// <summary>The newest CRLs, full and delta, by the file name they are served under: bytes to hand out and lists to judge by.</summary>
public sealed class CrlShelf
{
    /// <summary>A list on the shelf; it is read only when somebody asks what is in it.</summary>
    public sealed record Shelved(PublishedCrl Row)
    {
        private readonly Lazy<Crl> _list = new(() => Crl.Read(Row.Der));

        public Crl List => _list.Value;

        /// <summary>Whether half of its life is over: time for the next one.</summary>
        public bool IsDue(DateTimeOffset now) => now >= DueAt;

        public DateTimeOffset DueAt => Row.ThisUpdate + (Row.NextUpdate - Row.ThisUpdate) / 2;
    }

    private readonly Dictionary<string, Shelved> _byFile = [];
    private readonly Lock _lock = new();

    /// <param name="file">As the full list is called: the authority's name, with its key's number from the second on.</param>
    public static string DeltaName(string file) => file + "-delta";

    public void Put(string slug, PublishedCrl row)
    {
        var file = Authority.FileOf(slug, row.KeyNumber);
        if (row.IsDelta)
            file = DeltaName(file);
        lock (_lock)
            if (!_byFile.TryGetValue(file, out var old) || old.Row.Number <= row.Number)
                _byFile[file] = new(row);
    }

    /// <param name="file">As in the address: see <see cref="Authority.FileOf"/> and <see cref="DeltaName"/>.</param>
    public Shelved? Get(string file)
    {
        lock (_lock)
            return _byFile.GetValueOrDefault(file);
    }

    /// <summary>When the first list of those that are not due already comes to be; null when there is none.</summary>
    public DateTimeOffset? NextDueAfter(DateTimeOffset now)
    {
        lock (_lock)
            return _byFile.Values.Where(s => !s.IsDue(now)).Min(s => (DateTimeOffset?)s.DueAt);
    }

    /// <summary>All lists, full and delta, of one of an issuer's names.</summary>
    public IReadOnlyList<Crl> ListsOf(X509 issuer)
    {
        List<Shelved> all;
        lock (_lock)
            all = [.. _byFile.Values];
        return [.. all.Select(s => s.List).Where(l => l.Issuer.Matches(issuer.Subject))];
    }
}
