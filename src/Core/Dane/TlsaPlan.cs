using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Core.Dane;

/// <summary>All TLSA records of one owner, as DNS gives them.</summary>
/// <param name="Owner"><c>_25._tcp.mail.thistledown.example</c> (RFC 6698, section 3).</param>
/// <param name="Life">Seconds for which others may keep them (their TTL).</param>
public sealed record TlsaSet(string Owner, int Life, IReadOnlyList<TlsaRecord> Records)
{
    /// <summary>More records of one owner are not read.</summary>
    public const int MostRecords = 50;

    /// <summary>A longer life is counted as this one.</summary>
    public const int MostLife = 7 * 24 * 3600;

    public static string OwnerOf(int port, string name) => $"_{port}._tcp.{name}";
}

/// <summary>What has to become of one owner's records while a certificate gets another key.</summary>
/// <param name="Add">The record of the next key; null when it is there already.</param>
/// <param name="Remove">Those of keys and certificates that are used no more.</param>
/// <param name="Foreign">Those that match nothing that is known here: whose they are, a person must say.</param>
public sealed record TlsaStep(TlsaSet Found, TlsaRecord? Add, IReadOnlyList<TlsaRecord> Remove, IReadOnlyList<TlsaRecord> Foreign);

/// <summary>
/// The order of a key's change under TLSA records (RFC 7671, section 8.1): the next key's record first; then, when nobody can have the old set any more, the key; then the old
/// record goes. A client accepts a server when any one of the records matches.
/// </summary>
/// <param name="Next">SHA-256 over the next key, hexadecimal; empty when there is none to be told.</param>
/// <param name="Now">The certificates in use or still to be used, of this certificate.</param>
/// <param name="Past">Its certificates that are used no more.</param>
/// <param name="Dropped">Digests of keys that were prepared and will not be used.</param>
/// <param name="Issuers">The authorities that the next edition hangs below.</param>
public sealed record TlsaPlan(
    string Next,
    IReadOnlyList<X509> Now,
    IReadOnlyList<X509> Past,
    IReadOnlyCollection<string> Dropped,
    IReadOnlyList<X509> Issuers
)
{
    /// <summary>Whether the next edition is accepted by what is there: an authority above it is named.</summary>
    public static bool IsCovered(TlsaSet set, IReadOnlyList<X509> issuers) =>
        set.Records.Any(r => r.IsOfAuthority && issuers.Any(r.Matches));

    public TlsaStep For(TlsaSet set)
    {
        var (remove, foreign) = (new List<TlsaRecord>(), new List<TlsaRecord>());
        var (isThere, usage) = (false, TlsaRecord.OwnCertificate);
        foreach (var r in set.Records)
        {
            if (r.IsOfServer && r.IsOfKey(Next))
                isThere = true;
            else if (r.IsOfServer && Now.Any(r.Matches))
                usage = r.Usage;
            else if (r.IsOfServer && (Dropped.Any(r.IsOfKey) || Past.Any(r.Matches)))
                remove.Add(r);
            else if (!r.IsOfAuthority || !Issuers.Any(r.Matches))
                foreign.Add(r);
        }
        var isWanted = Next.Length > 0 && set.Records.Count > 0 && !isThere && !IsCovered(set, Issuers);
        return new(set, isWanted ? TlsaRecord.OfKey(usage, Next) : null, remove, foreign);
    }
}
