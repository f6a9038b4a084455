using System.Text;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Outside;

/// <summary>Puts an accepted answer on record and orders its host to put it together with its key. Done twice, the second finds that the request waits no more.</summary>
public sealed class CompleteRequest(
    BeaconDb db,
    RecordBrought record,
    CarryOutRequest carryOut,
    OutsideBook book,
    WorkBell bell,
    Changes changes,
    TimeProvider clock
)
{
    public static string Pem(IEnumerable<X509> chain) => string.Concat(chain.Select(c => Armor.Write(Armor.Certificate, c.Der.Span)));

    /// <returns>The order's number.</returns>
    public async Task<long> RunAsync(long id, IReadOnlyList<X509> chain, Caller caller, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var request = await db.Requests.SingleAsync(r => r.Id == id, ct);
        MayAct.ThrowUnless(Operation.TakeAnswer, caller, MayAct.Of(request));
        return await PlaceAsync(write, request, Pem(chain), decidedBy: null, caller, ct);
    }

    /// <summary>Takes the answer that is held although it differs: somebody else than who asked decides that.</summary>
    public async Task<long> AcceptHeldAsync(long id, Caller caller, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var request =
            await db.Requests.FirstOrDefaultAsync(r => r.Id == id, ct)
            ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no request {id}.", "See beacon request list.");
        MayAct.ThrowUnless(Operation.AcceptAnswer, caller, MayAct.Of(request));
        if (RightsOf.Decide(caller.Who, MayAct.Of(request).Called, DecideAgain.Holders(request)) is { } denial)
            throw new RefusedAttempt(Operation.AcceptAnswer, caller, MayAct.Of(request), denial);
        if (request.HeldChain is not { } chain)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"No answer to request {id} waits for a decision.",
                $"Look at it: beacon request show {id}."
            );
        return await PlaceAsync(write, request, chain, caller.Name, caller, ct);
    }

    private async Task<long> PlaceAsync(
        WriteScope write,
        Request request,
        string chain,
        string? decidedBy,
        Caller caller,
        CancellationToken ct
    )
    {
        request.Answered(decidedBy);
        var certificate = await db.Certificates.SingleAsync(c => c.Id == request.CertificateId, ct);
        IReadOnlyList<X509> certificates = [.. Armor.Read(Encoding.ASCII.GetBytes(chain)).Blocks.Select(b => X509.Read(b.Der))];
        var leaf = certificates[0];
        var learnt = await OutsideBook.LearnAsync(db, certificates, clock.GetUtcNow(), ct);
        await record.RunAsync(
            certificate,
            request.Id,
            leaf,
            EditionState.Next,
            request.Requester,
            caller.Actor,
            $"answer to request {request.Id}{(decidedBy is null ? "" : ", which it differs from")}",
            ct
        );
        certificate.Waiting();
        var content = await carryOut.CompletionAsync(request, certificate.Id, leaf.Serial.Hex, chain, ct);
        var order = WorkOrder.Of(clock.GetUtcNow(), certificate.HostId!.Value, content, certificate.Id, request.Id);
        db.Orders.Add(order);
        await write.CommitAsync(ct);
        if (learnt)
            await book.LoadAsync(db, ct);
        bell.Ring(certificate.HostId!.Value);
        changes.Tell("request", request.Id.ToString());
        changes.Tell("certificate", certificate.Name);
        return order.Id;
    }
}
