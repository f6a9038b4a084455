using System.Collections.Concurrent;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Rights;

/// <summary>
/// Whether somebody may do something to an existing thing: asked by every operation that touches one, at the moment that counts. A refusal is told to the caller,
/// and kept in the journal under the thing's name for whom it concerns.
/// </summary>
public sealed class MayAct(IServiceScopeFactory scopes, TimeProvider clock, ILogger<MayAct> log)
{
    private static readonly TimeSpan Pause = TimeSpan.FromMinutes(1);
    private readonly ConcurrentDictionary<string, DateTimeOffset> _told = [];

    public static Thing Of(Certificate c) => new($"the certificate \"{c.Name}\"", c.Owner);

    public static Thing Of(Hosts.Host h) => new($"the host {h.Name}", h.Owner);

    public static Thing Of(Request r) => new($"request {r.Id}", r.Requester);

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotAllowed"/>, <see cref="ProblemCode.OwnRequest"/>.</exception>
    public Task ThrowUnlessAsync(Operation operation, Caller caller, Thing thing)
    {
        if (RightsOf.Thing(operation, caller.Who, thing) is not { } denial)
            return Task.CompletedTask;
        Tell(operation, caller, thing, denial);
        throw denial.Problem;
    }

    /// <summary>The same refusal again within a minute is not written again: a refused caller must not be able to fill the journal.</summary>
    private void Tell(Operation operation, Caller caller, Thing thing, Denial denial)
    {
        var now = clock.GetUtcNow();
        var key = $"{operation} {caller.Actor} {thing.Called}";
        if (_told.TryGetValue(key, out var last) && now - last < Pause)
            return;
        if (_told.Count > 10_000)
            _told.Clear();
        _told[key] = now;
        var what = $"{BeaconProblem.SlugOf(operation).Replace('-', ' ')}: {denial.Reason}";
        // Beside the call: its own transaction may be open now, and is undone.
        _ = NoteAsync(now, caller.Actor, thing.Called, what);
    }

    private async Task NoteAsync(DateTimeOffset now, string actor, string about, string what)
    {
        await Task.Yield();
        try
        {
            await using var scope = scopes.CreateAsyncScope();
            var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
            await using var write = await db.BeginWriteAsync();
            await db.Note(now, actor, "attempt.refused", about, what);
            await write.CommitAsync();
        }
        catch (Exception e)
        {
            // Nobody waits for it, so nobody else would hear.
            log.LogError(e, "A refused attempt of {Actor} on {About} could not be noted: {What}", actor, about, what);
        }
    }
}
