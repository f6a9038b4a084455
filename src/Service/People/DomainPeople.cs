using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.People;

/// <summary>People whom the directory knows. Nothing of theirs is kept here but their name, so that what they own and did stays theirs.</summary>
public sealed class DomainPeople(IServiceScopeFactory scopes, DirectoryBook directory, Tickets tickets, PeopleBook book, TimeProvider clock)
{
    /// <param name="name">As <c>alice@thistledown.example</c>.</param>
    public async Task<bool> IsPasswordOfAsync(string name, string password, CancellationToken ct) =>
        tickets.AreTaken && password.Length > 0 && await tickets.IsPasswordOfAsync(name, password, ct);

    /// <summary>Whom a ticket proves. The directory must know them now; the first time, they get a row that their sessions hang on.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.TicketRefused"/> or <see cref="ProblemCode.DirectoryAway"/>.</exception>
    public async Task<Person> FindAsync(string name, CancellationToken ct)
    {
        if (!directory.IsThere || (await directory.PersonAsync(name, ct)).Value is not { IsEnabled: true })
            throw new BeaconProblem(
                ProblemCode.TicketRefused,
                $"The directory has no account {name} that may be used.",
                "Sign in with another account, or have it unlocked there."
            );
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        if (await db.People.AsNoTracking().FirstOrDefaultAsync(p => p.Name == name, ct) is { } known)
            return known.LeftAt is null
                ? known
                : throw new BeaconProblem(
                    ProblemCode.TicketRefused,
                    $"An administrator has let {name} go.",
                    "Ask an administrator: a name is not taken up again."
                );
        var person = Person.OfDirectory(name);
        await using (var write = await db.BeginWriteAsync(ct))
        {
            if (await db.People.AsNoTracking().FirstOrDefaultAsync(p => p.Name == name, ct) is { } meanwhile)
                return meanwhile;
            db.People.Add(person);
            await db.Note(clock.GetUtcNow(), Actor.Door, JournalAction.PersonAdded, name, $"known by {directory.Called}");
            await write.CommitAsync(ct);
        }
        book.Changed();
        return person;
    }
}
