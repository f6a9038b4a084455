using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Outside;

internal static class OutsideEndpoints
{
    /// <summary>An answer may bring a chain and a ZIP around it.</summary>
    private const long MostBody = 8 << 20;

    public static void MapOutside(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/outside").WithTags("Outside");
        g.MapGet(
                "",
                async (BeaconDb db, CancellationToken ct) =>
                    TypedResults.Ok((await db.Outside.AsNoTracking().OrderBy(o => o.Name).ToListAsync(ct)).Select(o => o.Info()).ToList())
            )
            .Is(Operation.ListOutside);
        g.MapPut(
                "/{name}",
                async (string name, OutsideWish body, KeepOutside keep, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(await keep.RunAsync(name, body, caller, ct))
            )
            .Is(Operation.KeepOutside);
        g.MapDelete(
                "/{name}",
                async (string name, KeepOutside keep, Caller caller, CancellationToken ct) =>
                {
                    await keep.ForgetAsync(name, caller, ct);
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.ForgetOutside);

        var requests = api.MapGroup("/requests").WithTags("Requests");
        requests
            .MapGet("/{id:long}/csr", async (long id, BeaconDb db, CancellationToken ct) => TypedResults.Ok(await CsrAsync(id, db, ct)))
            .Is(Operation.GetRequestCsr);
        requests
            .MapPost(
                "/answers",
                async (AnswerFiles body, TakeAnswer take, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(await take.RunAsync(body, caller, ct))
            )
            .WithMetadata(new BodyLimit(MostBody))
            .Is(Operation.TakeAnswer);
        requests
            .MapPost(
                "/{id:long}/answer/accept",
                async (long id, CompleteRequest complete, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(new OrderAccepted(await complete.AcceptHeldAsync(id, caller, ct)))
            )
            .Is(Operation.AcceptAnswer);
    }

    private static async Task<RequestCsr> CsrAsync(long id, BeaconDb db, CancellationToken ct)
    {
        var request =
            await db.Requests.AsNoTracking().FirstOrDefaultAsync(r => r.Id == id, ct)
            ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no request {id}.", "See beacon request list.");
        if (request.Csr is not { } der)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                request.State == RequestState.WaitingForHost
                    ? $"The host has not made the CSR of request {id} yet."
                    : $"Request {id} has no CSR here: its host gives it to the authority itself.",
                $"Look at it: beacon request show {id}."
            );
        var csr = CertificationRequest.Read(der);
        return new(
            Armor.Write(Armor.CertificateRequest, der),
            csr.Subject.ToString(),
            [.. csr.Names.Select(n => n.ToString())],
            csr.PublicKey.Spec.ToString(),
            $"request-{id}.csr"
        );
    }
}
