using System.Collections.Concurrent;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
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
    private const int MostKept = 10_000;
    private readonly ConcurrentDictionary<string, DateTimeOffset> _told = [];

    public static Thing Of(Certificate c) => CertificateThing(c.Name, c.Owner);

    public static Thing Of(Hosts.Host h) => HostThing(h.Name, h.Owner);

    public static Thing Of(Request r) => RequestThing(r.Id, r.Requester);

    public static Thing CertificateThing(string name, string owner) => new($"the certificate \"{name}\"", owner);

    public static Thing HostThing(string name, string owner) => new($"the host {name}", owner);

    public static Thing RequestThing(long number, string requester) => new($"request {number}", requester);

    /// <exception cref="RefusedAttempt">With <see cref="ProblemCode.NotAllowed"/> or <see cref="ProblemCode.OwnRequest"/>.</exception>
    public static void ThrowUnless(Operation operation, Caller caller, Thing thing)
    {
        if (RightsOf.Thing(operation, caller.Who, thing) is { } denial)
            throw new RefusedAttempt(operation, caller, thing, denial);
    }

    /// <summary>
    /// Keeps a refusal in the journal, before it is answered and after what was open for the call is undone. The same again within a minute is not written again: a
    /// refused caller must not be able to fill the journal.
    /// </summary>
    public async Task NoteAsync(RefusedAttempt attempt)
    {
        var now = clock.GetUtcNow();
        if (_told.TryGetValue(attempt.Key, out var last) && now - last < Pause)
            return;
        if (_told.Count > MostKept)
            _told.Clear();
        _told[attempt.Key] = now;
        try
        {
            await using var scope = scopes.CreateAsyncScope();
            var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
            await using var write = await db.BeginWriteAsync();
            await db.Note(now, attempt.Actor, JournalAction.AttemptRefused, attempt.About, attempt.What);
            await write.CommitAsync();
        }
        catch (Exception e) when (e is not OutOfMemoryException)
        {
            // The refusal holds all the same, and the next attempt is noted at once.
            _told.TryRemove(attempt.Key, out _);
            log.LogError(
                e,
                "A refused attempt of {Actor} on {About} could not be noted: {What}",
                attempt.Actor,
                attempt.About,
                attempt.What
            );
        }
    }
}

/// <summary>Somebody tried what they may not do to a thing that is there.</summary>
public sealed class RefusedAttempt(Operation operation, Caller caller, Thing thing, Denial denial)
    : BeaconProblem(denial.Code, denial.Reason, denial.Cure)
{
    public Actor Actor => caller.Actor;

    public string About => thing.Called;

    public string What => $"{SlugOf(operation).Replace('-', ' ')}: {denial.Reason}";

    /// <summary>The same for the same attempt again.</summary>
    public string Key => $"{operation} {Actor} {About}";
}
