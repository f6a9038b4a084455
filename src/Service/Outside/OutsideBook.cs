using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Outside;

/// <summary>
/// The authorities that are not ours, in memory: a handful, read when they change. An authority keeper said that clients trust their roots, so what they issued is judged by them
/// as ours is by our own.
/// </summary>
public sealed class OutsideBook
{
    private volatile Content _now = new([], [], []);

    private sealed record Content(IReadOnlyList<OutsideAuthority> All, IReadOnlyList<X509> Anchors, IReadOnlyList<X509> Intermediates);

    public IReadOnlyList<X509> Anchors => _now.Anchors;

    public IReadOnlyList<X509> Intermediates => _now.Intermediates;

    public async Task LoadAsync(BeaconDb db, CancellationToken ct)
    {
        var all = await db.Outside.AsNoTracking().OrderBy(o => o.Name).ToListAsync(ct);
        _now = new(all, [.. all.SelectMany(o => o.Anchors)], [.. all.SelectMany(o => o.Intermediates)]);
    }

    /// <summary>Keeps the intermediates of a chain that hangs below an authority's anchor, so that what comes later without them is judged all the same. Inside the caller's transaction.</summary>
    /// <param name="chain">Leaf first.</param>
    /// <returns>Whether there was something new: then it is to be loaded again after the commit.</returns>
    public static async Task<bool> LearnAsync(BeaconDb db, IReadOnlyList<X509> chain, DateTimeOffset now, CancellationToken ct)
    {
        var learnt = false;
        foreach (var o in await db.Outside.ToListAsync(ct))
        {
            var path = PathJudge.Judge(new(chain[0], chain, o.Intermediates, o.Anchors, now) { Purpose = null });
            var known = o.Anchors.Concat(o.Intermediates).Select(x => x.Thumbprint).ToHashSet();
            var more = path.Certificates.Skip(1).Where(x => !known.Contains(x.Thumbprint)).ToList();
            if (!path.ReachesAnchor || more.Count == 0 || o.Intermediates.Count > MostIntermediates)
                continue;
            o.Knows([.. o.Intermediates, .. more]);
            learnt = true;
        }
        return learnt;
    }

    private const int MostIntermediates = 50;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotFound"/>.</exception>
    public OutsideAuthority Get(string name) =>
        _now.All.FirstOrDefault(o => o.Name == name)
        ?? throw new BeaconProblem(
            ProblemCode.NotFound,
            $"No authority outside is called \"{name}\".",
            "See beacon outside list; an authority keeper adds one with: beacon outside set."
        );
}
