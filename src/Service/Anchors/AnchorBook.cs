using System.Collections.Concurrent;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Anchors;

/// <summary>All anchors of all hosts by name, in memory as bytes: at which of them does a chain end? And which sets were asked for a short while ago.</summary>
public sealed class AnchorBook(TimeProvider clock)
{
    private static readonly TimeSpan AskAgain = TimeSpan.FromMinutes(1);
    private const int MostAsked = 10_000;

    /// <summary>More are not held: hosts say what there is, and the first that were known stay. Public bundles have some 150 each.</summary>
    private const int MostHeld = 5_000;
    private readonly ConcurrentDictionary<string, DateTimeOffset> _asked = [];
    private ILookup<string, byte[]> _bySubject = Array.Empty<(string, byte[])>().ToLookup(x => x.Item1, x => x.Item2);

    public async Task LoadAsync(BeaconDb db, CancellationToken ct)
    {
        var all = await db
            .KnownAnchors.AsNoTracking()
            .OrderBy(a => a.Id)
            .Take(MostHeld)
            .Select(a => new { a.Subject, a.Der })
            .ToListAsync(ct);
        _bySubject = all.ToLookup(a => KeyOf(a.Subject), a => a.Der);
    }

    private static string KeyOf(string subject) => subject.ToLowerInvariant();

    /// <summary>Whether nobody was asked for a set's content within the last minute: thousands of hosts get the same new one at once.</summary>
    public bool MayAsk(string digest)
    {
        var now = clock.GetUtcNow();
        if (_asked.TryGetValue(digest, out var at) && now - at < AskAgain)
            return false;
        if (_asked.Count > MostAsked)
            _asked.Clear();
        _asked[digest] = now;
        return true;
    }

    /// <summary>The answer is there: should the set be forgotten, it is asked for again at once.</summary>
    public void Answered(string digest) => _asked.TryRemove(digest, out _);

    /// <summary>The fingerprint of the anchor that a chain ends at, trusted here or not; null when no host has it.</summary>
    public string? EndOf(TrustPath? path)
    {
        if (path is not { Certificates: [.., var last] })
            return null;
        if (path.ReachesAnchor)
            return last.Thumbprint.Hex;
        return Named(last.Subject).Concat(Named(last.Issuer)).FirstOrDefault(a => IsAbove(a, last))?.Thumbprint.Hex;
    }

    private static bool IsAbove(X509 anchor, X509 last) =>
        anchor.Thumbprint == last.Thumbprint || (anchor.Subject.Matches(last.Issuer) && last.SignedBy(anchor.PublicKey));

    private IEnumerable<X509> Named(DistinguishedName name) => _bySubject[KeyOf(name.ToString())].Select(Readable).OfType<X509>();

    /// <summary>Null for an old root that is not written as it should be: others trust it, and nothing is worked out with it here.</summary>
    public static X509? Readable(byte[] der)
    {
        try
        {
            return X509.Read(der);
        }
        catch (BeaconProblem)
        {
            return null;
        }
    }
}
