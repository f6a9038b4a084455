using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Records;
using OrderlyBeacon.Service.Renewals;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Certificates;

internal static class CertificateEndpoints
{
    public static void MapCertificates(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/certificates").WithTags("Certificates");
        g.MapGet(
                "",
                async ([AsParameters] CertificateWish wish, CertificateList list, Offers offers, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(offers.To(await list.PageAsync(wish, ct), c => offers.To(caller, c)))
            )
            .Is(Operation.ListCertificates);

        g.MapGet(
                "/{name}",
                async (string name, CertificateQueries q, Offers offers, Caller caller, HttpContext context, CancellationToken ct) =>
                {
                    var detail = offers.To(caller, await q.OneAsync(name, ct));
                    context.Response.Headers.ETag = Tag(detail.Certificate.Version);
                    return TypedResults.Ok(detail);
                }
            )
            .Is(Operation.GetCertificate);

        g.MapPost(
                "/{name}/renew",
                async (string name, OrderRenewal renewal, CertificateQueries q, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(new OrderAccepted(await renewal.RunAsync((await q.FindAsync(name, ct)).Id, caller, ct)))
            )
            .Is(Operation.RenewCertificate);

        g.MapPost(
                "/{name}/rollover/skip",
                async (string name, SkipReason body, SkipRecords skip, CertificateQueries q, Caller caller, CancellationToken ct) =>
                {
                    await skip.RunAsync((await q.FindAsync(name, ct)).Id, body.Reason, caller, ct);
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.SkipRecords);

        MapRevoking(g);
        MapIssued(api);
        MapKeeping(g);
    }

    private static void MapRevoking(RouteGroupBuilder g)
    {
        g.MapPost(
                "/{name}/revoke",
                async (string name, Revocation body, RevokeEdition revoke, CertificateQueries q, Caller caller, CancellationToken ct) =>
                {
                    var row = await q.FindAsync(name, ct);
                    var serial =
                        body.Serial ?? (row.Name != name && SerialNumber.TryParse(name, out var s) && name.Length < 60 ? s.Hex : null);
                    await revoke.RunAsync(row.Name, body with { Serial = serial }, caller, ct);
                    return TypedResults.Ok(await q.OneAsync(row.Name, ct));
                }
            )
            .Is(Operation.RevokeCertificate);

        g.MapPost(
                "/{name}/release",
                async (string name, HoldRelease body, ReleaseEdition release, CertificateQueries q, Caller caller, CancellationToken ct) =>
                {
                    var row = await q.FindAsync(name, ct);
                    await release.RunAsync(row.Name, body.Serial, caller, ct);
                    return TypedResults.Ok(await q.OneAsync(row.Name, ct));
                }
            )
            .Is(Operation.ReleaseCertificate);
    }

    private static void MapIssued(RouteGroupBuilder api)
    {
        api.MapGet(
                "/editions",
                (IssuedTable table, string? serial, string? name, DateTimeOffset? from, DateTimeOffset? to, int? take) =>
                {
                    var n = Math.Clamp(take ?? 100, 1, IssuedTable.Most);
                    return TypedResults.Ok<List<IssuedEdition>>([
                        .. (serial, name, from, to) switch
                        {
                            ({ Length: > 0 } s, _, _, _) => SerialNumber.TryParse(s, out var parsed)
                                ? table.BySerial(parsed)
                                : throw new BeaconProblem(
                                    ProblemCode.InputInvalid,
                                    $"\"{s}\" is not a serial number.",
                                    "Write it in hexadecimal, as certificates show it."
                                ),
                            (_, { Length: > 0 } beginning, _, _) => table.ByName(beginning.ToLowerInvariant(), n),
                            (_, _, { } after, { } before) => table.EndingBetween(after, before, n),
                            _ => throw new BeaconProblem(
                                ProblemCode.InputInvalid,
                                "Say what to look for.",
                                "Give serial, name (the beginning of it), or from and to (when it ends)."
                            ),
                        },
                    ]);
                }
            )
            .Is(Operation.FindEditions)
            .WithTags("Certificates");
        api.MapGet(
                "/comparison",
                async (string left, string right, CompareCertificates compare, CancellationToken ct) =>
                    TypedResults.Ok(await compare.RunAsync(left, right, ct))
            )
            .WithTags("Certificates")
            .Is(Operation.CompareCertificates);

        api.MapPost(
                "/revocations",
                async (RevocationWish wish, RevokeMany revoke, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(await revoke.RunAsync(wish, caller, ct))
            )
            .Is(Operation.RevokeMany)
            .WithTags("Certificates");
    }

    private static void MapKeeping(RouteGroupBuilder g)
    {
        g.MapPut(
                "/{name}/owner",
                async (string name, NewOwner body, Owners owners, CertificateQueries q, Caller caller, CancellationToken ct) =>
                {
                    await owners.GiveCertificateAsync(name, body.Owner, caller, ct);
                    return TypedResults.Ok(await q.OneAsync(name, ct));
                }
            )
            .Is(Operation.GiveCertificate);
        g.MapPut("/{name}/policy", ChangePolicyAsync).Is(Operation.ChangePolicy);

        g.MapGet("/{name}/export", ExportAsync).Is(Operation.ExportCertificate).Produces(200, contentType: "application/octet-stream");
    }

    private static string Tag(long version) => $"\"{version}\"";

    private static async Task<IResult> ChangePolicyAsync(
        string name,
        PolicyInfo body,
        BeaconDb db,
        CertificateQueries q,
        Caller caller,
        TimeProvider clock,
        Changes changes,
        HttpContext context,
        CancellationToken ct
    )
    {
        var match = context.Request.Headers.IfMatch.ToString();
        if (match.Length == 0)
            throw new BeaconProblem(
                ProblemCode.VersionMissing,
                "The change does not say which version it is of.",
                "Send the ETag of what you saw as If-Match."
            );
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var row =
                await db.Certificates.FirstOrDefaultAsync(c => c.Name == name, ct) ?? throw await NotThere.CertificateAsync(db, name, ct);
            MayAct.ThrowUnless(Operation.ChangePolicy, caller, MayAct.Of(row));
            if (match != Tag(row.Version))
                throw new BeaconProblem(
                    ProblemCode.ChangedMeanwhile,
                    $"Somebody else changed \"{name}\" in between; nothing of yours was stored.",
                    "Look at it again, then repeat the change."
                );
            row.ChangePolicy(body);
            var edition = await db
                .Editions.AsNoTracking()
                .FirstOrDefaultAsync(e => e.CertificateId == row.Id && e.State == EditionState.Current, ct);
            if (edition is not null && row.HostId is not null && row.Failures == 0)
                row.Settled(row.Policy.PlannedFor(edition.NotBefore, edition.NotAfter, edition.Serial));
            await db.Note(
                clock.GetUtcNow(),
                caller.Actor,
                JournalAction.PolicyChanged,
                name,
                $"renew after {body.After:0.###} of the life, {(body.Automatic ? "by itself" : "by hand")}"
            );
            await write.CommitAsync(ct);
        }
        changes.Tell("certificate", name);
        var detail = await q.OneAsync(name, ct);
        context.Response.Headers.ETag = Tag(detail.Certificate.Version);
        return TypedResults.Ok(detail);
    }

    private static async Task<IResult> ExportAsync(
        string name,
        string? form,
        string? serial,
        CertificateQueries q,
        BeaconDb db,
        AuthorityRegistry registry,
        CancellationToken ct
    )
    {
        var row = await q.FindAsync(name, ct);
        var editions = db.Editions.AsNoTracking().Where(e => e.CertificateId == row.Id);
        var wanted = serial is not null && SerialNumber.TryParse(serial, out var s) ? s.Hex : null;
        var edition =
            (
                wanted is not null
                    ? await editions.FirstOrDefaultAsync(e => e.Serial == wanted, ct)
                    : await editions
                        .OrderByDescending(e => e.State == EditionState.Current)
                        .ThenByDescending(e => e.Id)
                        .FirstOrDefaultAsync(ct)
            )
            ?? throw new BeaconProblem(
                ProblemCode.NotFound,
                $"\"{row.Name}\" has no such edition.",
                "See beacon cert show " + row.Name + "."
            );
        ReadOnlyMemory<byte>[] chain = [edition.Der, .. registry.Above(Core.Issuing.X509.Read(edition.Der)).Select(x => x.Der)];
        ReadOnlyMemory<byte>[] whole = [.. chain, registry.Root.Der];
        (byte[] Bytes, string Extension, string Type) file = (form ?? "pem") switch
        {
            "pem" => (Ascii(Armor.Write(Armor.Certificate, edition.Der)), ".pem", "application/x-pem-file"),
            "chain" => (Ascii(registry.ChainPem(edition.Der)), "--chain.pem", "application/x-pem-file"),
            "der" => (edition.Der, ".cer", "application/pkix-cert"),
            "pkcs7" => (Pkcs7.WriteCertificates(whole), ".p7b", "application/pkcs7-mime"),
            "pkcs7-pem" => (Ascii(Armor.Write(Armor.Pkcs7, Pkcs7.WriteCertificates(whole))), ".p7b.pem", "application/x-pem-file"),
            _ => throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"\"{form}\" is not a form that is written.",
                "Use pem, chain, der, pkcs7 or pkcs7-pem."
            ),
        };
        var safe = string.Concat(row.Name.Select(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' or '@' ? c : '_'));
        return TypedResults.File(file.Bytes, file.Type, $"{safe}--{edition.NotAfter:yyyy-MM-dd}{file.Extension}");

        static byte[] Ascii(string text) => System.Text.Encoding.ASCII.GetBytes(text);
    }
}
