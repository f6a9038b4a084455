using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
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

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotFound"/>.</exception>
    public OutsideAuthority Get(string name) =>
        _now.All.FirstOrDefault(o => o.Name == name)
        ?? throw new BeaconProblem(
            ProblemCode.NotFound,
            $"No authority outside is called \"{name}\".",
            "See beacon outside list; an authority keeper adds one with: beacon outside set."
        );
}
