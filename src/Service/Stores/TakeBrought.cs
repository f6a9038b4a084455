using System.Text;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Outside;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Stores;

/// <summary>Puts on record what was brought into a host's store, so that it can be bound, looked after and told of before its end. It grants no name to anybody.</summary>
public sealed class TakeBrought(BeaconDb db, RecordBrought record, OutsideBook book, PeopleBook people, TimeProvider clock)
{
    private const int Most = 50;
    private bool _learnt;

    /// <summary>After the commit: what was learnt of authorities outside counts from now on.</summary>
    public async Task SettledAsync(CancellationToken ct)
    {
        if (_learnt)
            await book.LoadAsync(db, ct);
    }

    /// <summary>An entry was deleted with its key: what was brought from elsewhere is nobody's to look after any more.</summary>
    public async Task RemovedAsync(Hosts.Host host, string? thumbprint, CancellationToken ct)
    {
        if (
            await db.Editions.FirstOrDefaultAsync(e => e.Thumbprint == thumbprint && e.GenerationId == Edition.NoGeneration, ct)
            is not { } gone
        )
            return;
        var row = await db.Certificates.SingleAsync(c => c.Id == gone.CertificateId, ct);
        if (row.HostId != host.Id || !row.IsBrought || await db.Bindings.AnyAsync(b => b.CertificateId == row.Id, ct))
            return;
        db.Editions.Remove(gone);
        if (!await db.Editions.AnyAsync(e => e.CertificateId == row.Id && e.Id != gone.Id, ct))
            db.Certificates.Remove(row);
    }

    /// <summary>Inside the transaction that ends the order.</summary>
    /// <returns>What a person should know, for the order.</returns>
    public async Task<IReadOnlyList<string>> RunAsync(Hosts.Host host, OrderResult result, CancellationToken ct)
    {
        var told = new List<string>();
        foreach (var taken in (result.Taken ?? []).Take(Most))
            try
            {
                await OneAsync(host, taken, ct);
                await db.SaveChangesAsync(ct);
            }
            catch (BeaconProblem p)
            {
                told.Add($"\"{taken.Certificate}\" is in the store, and not on record here: {p.Message} {p.Cure}");
            }
        return told;
    }

    private async Task OneAsync(Hosts.Host host, TakenEntry taken, CancellationToken ct)
    {
        IReadOnlyList<X509> chain = [.. Armor.Read(Encoding.ASCII.GetBytes(taken.Chain)).Blocks.Select(b => X509.Read(b.Der))];
        var leaf = chain[0];
        _learnt |= await OutsideBook.LearnAsync(db, chain, clock.GetUtcNow(), ct);
        if (await db.Editions.FirstOrDefaultAsync(e => e.Thumbprint == leaf.Thumbprint.Hex, ct) is { } known)
        {
            await PairAsync(host, known, taken, ct);
            return;
        }
        // The host says what it is called: a name that means something here is not taken on its word.
        CertificateNaming.Given(taken.Certificate, host.Owner);
        var row = await db.Certificates.FirstOrDefaultAsync(c => c.Name == taken.Certificate, ct);
        if (row is not null && row.HostId != host.Id)
            throw new BeaconProblem(
                ProblemCode.AlreadyExists,
                $"There is a certificate named \"{taken.Certificate}\" elsewhere already.",
                "Import it again with a name of its own (client: --as NAME)."
            );
        if (row is null)
        {
            CertificateNaming.ThrowIfOfAnotherHost(taken.Certificate, leaf.Names);
            var names = Shapes.Json(leaf.Names.Select(n => n.ToString()));
            db.Certificates.Add(
                row = Certificate.OfImport(
                    taken.Certificate,
                    host.Id,
                    host.Owner,
                    leaf.Subject.ToString(),
                    names,
                    leaf.PublicKey.Spec.ToString()
                )
            );
            await db.SaveChangesAsync(ct);
        }
        await record.RunAsync(
            row,
            null,
            leaf,
            EditionState.Current,
            host.Owner,
            Actor.Agent(host.Name),
            $"brought into the store of {host.Name}",
            ct
        );
    }

    /// <summary>An edition that is on record, issued here for a CSR or answered outside: its key turned out to be on this host.</summary>
    private async Task PairAsync(Hosts.Host host, Edition known, TakenEntry taken, CancellationToken ct)
    {
        var row = await db.Certificates.SingleAsync(c => c.Id == known.CertificateId, ct);
        if (row.HostId == host.Id && row.Name == taken.Certificate)
            return;
        if (row.HostId is not null || row.Name != taken.Certificate)
            throw new BeaconProblem(
                ProblemCode.AlreadyExists,
                $"It is on record as \"{row.Name}\"{(row.HostId is null ? "" : ", on another host")}.",
                row.HostId is null ? $"Import it again under that name: --as \"{row.Name}\"." : "Nothing to do."
            );
        // The host says that it has the key; it gets only what belongs to somebody who may order work on it.
        if (row.Owner != host.Owner)
        {
            var owner = new Who(row.Owner, await people.GroupsOfAsync(row.Owner, ct), null);
            if (RightsOf.Thing(Operation.ImportToStore, owner, MayAct.Of(host)) is not null)
                throw new BeaconProblem(
                    ProblemCode.NotAllowed,
                    $"\"{row.Name}\" belongs to {row.Owner}, who may not order work on {host.Name}.",
                    "Give the certificate or the host to one owner: beacon cert give, beacon host give."
                );
        }
        row.LiesOn(host.Id);
        await db.Note(
            clock.GetUtcNow(),
            Actor.Agent(host.Name),
            JournalAction.CertificateStored,
            row.Name,
            $"serial {known.Serial} is paired with its key in the store of {host.Name}"
        );
    }
}
