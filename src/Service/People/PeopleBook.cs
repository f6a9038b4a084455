using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.People;

/// <summary>Who is in which groups now, in memory: each decision asks for it. Whoever changes people calls <see cref="Changed"/> after the commit.</summary>
public sealed class PeopleBook(IServiceScopeFactory scopes, DomainGroups domain)
{
    private volatile IReadOnlyDictionary<string, IReadOnlyList<string>>? _groups;
    private long _version;

    public void Changed()
    {
        Interlocked.Increment(ref _version);
        _groups = null;
    }

    /// <summary>The groups of an owner: a person's, or the one group that owns; none of somebody who has left.</summary>
    /// <param name="owner">As in <see cref="Thing.Owner"/>.</param>
    public async ValueTask<IReadOnlyList<string>> GroupsOfAsync(string owner, CancellationToken ct)
    {
        if (owner.StartsWith(Thing.GroupPrefix, StringComparison.Ordinal))
            return [owner[Thing.GroupPrefix.Length..]];
        return (_groups ?? await LoadAsync(ct)).TryGetValue(owner, out var groups)
            ? [.. groups, .. await domain.OfPersonAsync(owner, ct)]
            : [];
    }

    /// <summary>Whether somebody of that name may sign in.</summary>
    public async ValueTask<bool> KnowsAsync(string name, CancellationToken ct) => (_groups ?? await LoadAsync(ct)).ContainsKey(name);

    private async Task<IReadOnlyDictionary<string, IReadOnlyList<string>>> LoadAsync(CancellationToken ct)
    {
        var version = Interlocked.Read(ref _version);
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        var people = await db.People.AsNoTracking().Where(p => p.LeftAt == null).ToListAsync(ct);
        var groups = people.ToDictionary(p => p.Name, p => p.GroupList);
        // A change in between makes this one old before it is kept.
        if (Interlocked.Read(ref _version) == version)
            _groups = groups;
        return groups;
    }
}
