using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Core.Revocation;

/// <summary>What lists say about a certificate.</summary>
public enum RevocationState
{
    /// <summary>A list that covers it does not name it.</summary>
    Good,

    /// <summary>It is named.</summary>
    Revoked,

    /// <summary>No list that may be relied on covers it.</summary>
    Undetermined,
}

/// <summary>A certificate's revocation (RFC 5280 section 6.3).</summary>
/// <param name="Entry">When revoked: the entry.</param>
/// <param name="Why">When undetermined: why the lists at hand do not count.</param>
public sealed record RevocationStanding(RevocationState State, RevokedCertificate? Entry, string Why = "")
{
    public static RevocationStanding Good { get; } = new(RevocationState.Good, null);

    public static RevocationStanding Undetermined(string why) => new(RevocationState.Undetermined, null, why);

    /// <summary>Judges by full lists and their deltas. A list counts when its issuer may sign lists and signed it, it is for this certificate, and it is fresh.</summary>
    /// <param name="lists">Any lists, full and delta.</param>
    /// <param name="signers">Certificates of keys that may have signed them, besides the issuer: the same authority's other keys.</param>
    public static RevocationStanding Judge(
        X509 certificate,
        X509 issuer,
        IEnumerable<Crl> lists,
        IReadOnlyList<X509> signers,
        DateTimeOffset now
    )
    {
        var all = lists.ToList();
        var why = "There is no list of this issuer.";
        foreach (var full in all.Where(l => l.BaseNumber is null && l.Issuer.Matches(certificate.Issuer)))
        {
            if (full.Objection([issuer, .. signers], certificate, now) is { } objection)
            {
                why = objection;
                continue;
            }
            var delta = all.Where(full.Fits).Where(d => d.Objection([issuer, .. signers], certificate, now) is null).MaxBy(d => d.Number);
            return full.Find(certificate.Serial, delta) is { } entry ? new(RevocationState.Revoked, entry) : Good;
        }
        return Undetermined(why);
    }
}
