using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.People;

/// <summary>Lets people in, regroups them, and ends what they could do: sessions, tokens and approvals that are still open go with it.</summary>
public sealed class ChangePeople(BeaconDb db, SignInDesk desk, SignInThrottle throttle, PeopleBook book, TimeProvider clock)
{
    public async Task<Person> AddAsync(NewPerson wish, Caller caller, CancellationToken ct)
    {
        var person = Person.Of(wish.Name, await desk.HashAsync(wish.Password, ct), wish.Groups);
        await using (var write = await db.BeginWriteAsync(ct))
        {
            if (await db.People.FirstOrDefaultAsync(p => p.Name == person.Name, ct) is { } taken)
                throw new BeaconProblem(
                    ProblemCode.AlreadyExists,
                    taken.LeftAt is null
                        ? $"There is a person {person.Name} already."
                        : $"{person.Name} was somebody's name; nobody else gets it, since the journal knows them by it.",
                    "Choose another name."
                );
            db.People.Add(person);
            await db.Note(clock.GetUtcNow(), caller.Actor, JournalAction.PersonAdded, person.Name, "groups " + person.Groups);
            await write.CommitAsync(ct);
        }
        Changed();
        return person;
    }

    public async Task UnlockAsync(string name, Caller caller, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var person = await FindAsync(name, ct);
        throttle.Unlock(person.Name);
        await db.Note(clock.GetUtcNow(), caller.Actor, JournalAction.PersonUnlocked, person.Name);
        await write.CommitAsync(ct);
    }

    public async Task<Person> RegroupAsync(string name, IReadOnlyList<string> groups, Caller caller, CancellationToken ct)
    {
        Person person;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            person = await FindAsync(name, ct);
            var before = person.Groups;
            person.Regroup(groups);
            if (!person.GroupList.Contains(Who.Administrators))
                await ThrowIfLastAsync(person, before, ct);
            if (!person.GroupList.Contains(Who.Approvers) && !person.GroupList.Contains(Who.Administrators))
                await DropApprovalsAsync(person.Name, "may approve no more", ct);
            await db.Note(clock.GetUtcNow(), caller.Actor, JournalAction.PersonRegrouped, person.Name, $"{before} → {person.Groups}");
            await write.CommitAsync(ct);
        }
        Changed();
        return person;
    }

    /// <summary>A new password ends the sessions that the old one opened.</summary>
    public async Task ResetPasswordAsync(string name, string password, Caller caller, CancellationToken ct)
    {
        var hash = await desk.HashAsync(password, ct);
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var person = await FindAsync(name, ct);
            ThrowIfOfDirectory(person);
            person.ChangePassword(hash);
            await db.Sessions.Where(s => s.PersonId == person.Id).ExecuteDeleteAsync(ct);
            await db.Note(clock.GetUtcNow(), caller.Actor, JournalAction.PersonPasswordSet, person.Name, "sessions ended");
            await write.CommitAsync(ct);
            throttle.Unlock(person.Name);
        }
        Changed();
    }

    public async Task ChangeOwnPasswordAsync(NewPassword wish, Caller caller, string source, CancellationToken ct)
    {
        await desk.CheckPasswordAsync(caller.Name, wish.Old ?? "", source, ct);
        var hash = await desk.HashAsync(wish.New, ct);
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var person = await FindAsync(caller.Name, ct);
            ThrowIfOfDirectory(person);
            person.ChangePassword(hash);
            await db.Sessions.Where(s => s.PersonId == person.Id && s.Hash != caller.SessionHash).ExecuteDeleteAsync(ct);
            await db.Note(clock.GetUtcNow(), caller.Actor, JournalAction.PersonPasswordChanged, person.Name, "their other sessions ended");
            await write.CommitAsync(ct);
        }
        Changed();
    }

    /// <summary>Somebody leaves: they sign in no more, what they approved and is still open counts no more, and the name is never given again.</summary>
    public async Task RemoveAsync(string name, Caller caller, CancellationToken ct)
    {
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var person = await FindAsync(name, ct);
            if (person.Name == caller.Name)
                throw new BeaconProblem(ProblemCode.NotAllowed, "You cannot let yourself go.", "Ask another administrator.");
            await ThrowIfLastAsync(person, person.Groups, ct);
            var now = clock.GetUtcNow();
            person.Leave(now);
            var sessions = await db.Sessions.Where(s => s.PersonId == person.Id).ExecuteDeleteAsync(ct);
            await db.Consents.Where(c => (c.By == person.Name || c.ConsentedBy == person.Name) && c.UsedAt == null).ExecuteDeleteAsync(ct);
            await DropApprovalsAsync(person.Name, "has left", ct);
            var owned = await db.Certificates.CountAsync(c => c.Owner == person.Name, ct);
            await db.Note(
                now,
                caller.Actor,
                JournalAction.PersonLeft,
                person.Name,
                $"{sessions} sessions ended; {owned} certificates are theirs and want another owner"
            );
            await write.CommitAsync(ct);
        }
        Changed();
    }

    private async Task DropApprovalsAsync(string name, string why, CancellationToken ct)
    {
        foreach (
            var r in await db
                .Requests.Where(r => r.State == RequestState.WaitingForApproval && r.ApprovalsJson.Contains("\"" + name + "\""))
                .ToListAsync(ct)
        )
            if (r.DropApprovals(by => by == name))
                await db.Note(clock.GetUtcNow(), Actor.Rules, JournalAction.RequestApprovalDropped, $"request {r.Id}", $"{name} {why}");
    }

    private async Task ThrowIfLastAsync(Person person, string groupsBefore, CancellationToken ct)
    {
        if (!groupsBefore.Split(',').Contains(Who.Administrators))
            return;
        var others = await db.People.AsNoTracking().Where(p => p.LeftAt == null && p.Id != person.Id).Select(p => p.Groups).ToListAsync(ct);
        if (!others.Any(g => g.Split(',').Contains(Who.Administrators)))
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"{person.Name} is the only administrator: nobody could let anybody in any more.",
                "Make somebody else an administrator first."
            );
    }

    private static void ThrowIfOfDirectory(Person person)
    {
        if (person.IsOfDirectory)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"The password of {person.Name} is kept in the directory, not here.",
                "Change it there, for example with kpasswd."
            );
    }

    private async Task<Person> FindAsync(string name, CancellationToken ct) =>
        await db.People.FirstOrDefaultAsync(p => p.Name == name && p.LeftAt == null, ct)
        ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no person \"{name}\".", "See beacon person list.");

    private void Changed()
    {
        book.Changed();
        desk.Forget();
    }
}
