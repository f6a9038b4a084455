using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Renewal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Requests;

internal static class RequestEndpoints
{
    /// <summary>What a list can be narrowed to.</summary>
    private static readonly Dictionary<string, RequestState> States = Enum.GetValues<RequestState>()
        .ToDictionary(s => JsonNamingPolicy.KebabCaseLower.ConvertName(s.ToString()));

    public static void MapRequests(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/requests").WithTags("Requests");
        g.MapPost(
                "/compose",
                async (ComposeWish wish, ComposeRequest compose, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(await compose.RunAsync(wish, caller, ct))
            )
            .Is(Operation.ComposeRequest);

        g.MapPost(
                "/preview",
                async (NewRequest wish, WishReading reading, IssueEdition issue, TimeProvider clock, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(
                        Preview(await reading.ReadAsync(wish, caller, Operation.PreviewRequest, ct), wish, issue, clock.GetUtcNow())
                    )
            )
            .Is(Operation.PreviewRequest);

        g.MapPost(
                "",
                async (NewRequest wish, SubmitRequest submit, BeaconDb db, Caller caller, CancellationToken ct) =>
                {
                    var id = await submit.RunAsync(wish, caller, "person", ct);
                    return TypedResults.Created($"/api/v1/requests/{id}", await OneAsync(db, id, ct));
                }
            )
            .Is(Operation.SubmitRequest);

        MapReading(g);
    }

    private static void MapReading(RouteGroupBuilder g)
    {
        g.MapGet(
                "",
                async (
                    BeaconDb db,
                    Offers offers,
                    Caller caller,
                    string? search,
                    string? state,
                    long? before,
                    int? take,
                    CancellationToken ct
                ) =>
                {
                    var n = Math.Clamp(take ?? 100, 1, 1000);
                    var q = db.Requests.AsNoTracking();
                    if (ListQuery.Word("state", state, [.. States.Keys]) is { } word)
                        q = q.Where(r => r.State == States[word]);
                    LookBack? back = null;
                    if (long.TryParse(search, out var number))
                        q = q.Where(r => r.Id == number);
                    else if (!string.IsNullOrWhiteSpace(search))
                    {
                        back = LookBack.Of(before, await db.Requests.MaxAsync(r => (long?)r.Id, ct) ?? 0);
                        q = Found(q, search, back.Value.From);
                    }
                    if (before is { } b)
                        q = q.Where(r => r.Id < b);
                    var ids = await q.OrderByDescending(r => r.Id).Take(n).Select(r => r.Id).ToListAsync(ct);
                    var behind = ids.Count == n ? ids[^1].ToString() : null;
                    var next = back is { } stretch ? stretch.Next(ids, n) : behind;
                    var page = new Page<RequestInfo>(await ManyAsync(db, ids, ct), next);
                    return TypedResults.Ok(offers.To(page, r => offers.To(caller, r)));
                }
            )
            .Is(Operation.ListRequests);

        g.MapGet(
                "/{id:long}",
                async (long id, BeaconDb db, Offers offers, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(offers.To(caller, await OneAsync(db, id, ct)))
            )
            .Is(Operation.GetRequest);

        MapDecisions(g);
    }

    private static IQueryable<Request> Found(IQueryable<Request> q, string search, long from)
    {
        var part = ListQuery.Having(search);
        return q.Where(r => r.Id >= from)
            .Where(r =>
                EF.Functions.Like(r.CertificateName, part, ListQuery.EscapedBy)
                || EF.Functions.Like(r.NamesJson, part, ListQuery.EscapedBy)
                || EF.Functions.Like(r.Requester, part, ListQuery.EscapedBy)
            );
    }

    private static void MapDecisions(RouteGroupBuilder g)
    {
        g.MapPost(
                "/{id:long}/approve",
                async (long id, DecideRequest decide, BeaconDb db, Caller caller, CancellationToken ct) =>
                {
                    await decide.ApproveAsync(id, caller, ct);
                    return TypedResults.Ok(await OneAsync(db, id, ct));
                }
            )
            .Is(Operation.ApproveRequest);

        g.MapPost(
                "/{id:long}/amend",
                async (long id, Amendment body, AmendRequest amend, BeaconDb db, Caller caller, CancellationToken ct) =>
                {
                    await amend.RunAsync(id, body, caller, ct);
                    return TypedResults.Ok(await OneAsync(db, id, ct));
                }
            )
            .Is(Operation.AmendRequest);

        g.MapPost(
                "/{id:long}/refuse",
                async (long id, Refusal body, DecideRequest decide, BeaconDb db, Caller caller, CancellationToken ct) =>
                {
                    await decide.RefuseAsync(id, body.Reason, caller, ct);
                    return TypedResults.Ok(await OneAsync(db, id, ct));
                }
            )
            .Is(Operation.RefuseRequest);

        g.MapPost(
                "/{id:long}/withdraw",
                async (long id, DecideRequest decide, BeaconDb db, Caller caller, CancellationToken ct) =>
                {
                    await decide.WithdrawAsync(id, caller, ct);
                    return TypedResults.Ok(await OneAsync(db, id, ct));
                }
            )
            .Is(Operation.WithdrawRequest);
    }

    private static RequestPreview Preview(ReadWish read, NewRequest wish, IssueEdition issue, DateTimeOffset now)
    {
        CertificateText? text = null;
        DateTimeOffset? planned = null;
        var warnings = read.Warnings.ToList();
        if (read.Overall != Core.Profiles.Verdict.Refused)
        {
            // The key does not exist yet: its kind is enough for everything that is shown.
            var key = read.Csr?.PublicKey ?? SampleKeys.Of(read.Key);
            var (content, validity) = issue.Content(read.Profile, read.Subject, read.Names, key, read.Life, now);
            text = Shapes.Text(content, read.Key.ToString(), validity.Reason);
            if (wish.Outside is { Length: > 0 } asked)
                text = text with { Issuer = asked, Crl = [], Ocsp = [], IssuerAt = [], LimitReason = null };
            else if (validity.Reason is { } reason)
                warnings.Add(reason);
            if (read.Host is not null && string.IsNullOrEmpty(wish.Outside))
                planned = new RenewalPolicy(wish.RenewAfter ?? read.Existing?.RenewAfter ?? new RenewalPolicy().After).PlannedFor(
                    content.NotBefore,
                    content.NotAfter,
                    content.Serial.Hex
                );
        }
        if (read.Uncovered.Count > 0)
            warnings.Add(
                $"The services answer to {string.Join(", ", read.Uncovered)} too: clients that use a name which is left out will refuse them."
            );
        var outcome = read.Overall switch
        {
            Core.Profiles.Verdict.Granted when read.Host is null => "It would be issued at once.",
            Core.Profiles.Verdict.Granted when wish.Outside is { Length: > 0 } outside =>
                $"{read.Host!.Name} makes the key and the CSR at once. Somebody carries the CSR to {outside} and brings the answer; it is put in place then.",
            Core.Profiles.Verdict.Granted =>
                $"It would be issued at once: {read.Host!.Name} makes the key{(read.BindTo.Count > 0 ? " and puts the certificate into " + string.Join(", ", read.BindTo) : "")}.",
            Core.Profiles.Verdict.NeedsApproval => read.Decided.PeopleNeeded > 1
                ? "It would wait until two other people approve it."
                : "It would wait until somebody else approves it.",
            _ => "It would be refused.",
        };
        return new(
            (Verdict)(int)read.Overall,
            [.. read.Verdicts.Select(Shapes.Of)],
            [.. read.Findings.Select(Shapes.Of)],
            text,
            read.CertificateName,
            planned,
            warnings,
            outcome
        )
        {
            Uncovered = read.Uncovered,
            Outside = wish.Outside,
        };
    }

    public static async Task<RequestInfo> OneAsync(BeaconDb db, long id, CancellationToken ct) =>
        (await ManyAsync(db, [id], ct)).FirstOrDefault()
        ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no request {id}.", "See beacon request list.");

    private static async Task<List<RequestInfo>> ManyAsync(BeaconDb db, List<long> ids, CancellationToken ct)
    {
        var rows = await (
            from r in db.Requests.AsNoTracking()
            where ids.Contains(r.Id)
            from h in db.Hosts.Where(h => h.Id == r.HostId).DefaultIfEmpty()
            from e in db.Editions.Where(e => e.RequestId == r.Id).DefaultIfEmpty()
            from c in db.Certificates.Where(c => c.Name == r.CertificateName).DefaultIfEmpty()
            orderby r.Id descending
            select new
            {
                r,
                Existing = c,
                Host = h == null ? null : h.Name,
                Serial = e == null ? null : e.Serial,
            }
        ).ToListAsync(ct);
        return
        [
            .. rows.Select(x => new RequestInfo(
                x.r.Id,
                x.r.State,
                x.r.CertificateName,
                x.Host,
                x.r.Profile,
                x.r.Requester,
                x.r.At,
                JsonSerializer.Deserialize(x.r.VerdictsJson, BeaconJson.Default.ListNameVerdictInfo)!,
                JsonSerializer.Deserialize(x.r.FindingsJson, BeaconJson.Default.ListFindingInfo)!,
                x.r.Key,
                x.Serial,
                x.r.Reason,
                x.r.DecidedBy,
                Shapes.Strings(x.r.BindToJson),
                x.r.OrderId,
                x.r.Note,
                x.r.Cause
            )
            {
                Needed = x.r.Needed,
                Approvals = x.r.Approvals,
                Amendments = x.r.Amendments,
                From = x.r.From,
                Outside = x.r.Outside,
                WaitsForDns = x.r is { State: RequestState.WaitingForHost, HostId: not null, Csr: not null },
                Held = x.r.HeldJson is { } held ? JsonSerializer.Deserialize(held, BeaconJson.Default.HeldAnswer) : null,
                Subject = x.r.Subject,
                Life = x.r.Life,
                Differences = x.Existing is { HasEdition: true } existing ? Differences(x.r, existing) : [],
            }),
        ];
    }

    /// <summary>Against what the certificate is now.</summary>
    private static IReadOnlyList<string> Differences(Request r, Certificates.Certificate c)
    {
        if (r.State is RequestState.Issued or RequestState.Refused or RequestState.Withdrawn)
            return [];
        var (before, after) = (Shapes.Strings(c.NamesJson), Shapes.Strings(r.NamesJson));
        var all = new List<string>();
        if (after.Except(before).ToList() is { Count: > 0 } added)
            all.Add("new names: " + string.Join(", ", added));
        if (before.Except(after).ToList() is { Count: > 0 } dropped)
            all.Add("dropped: " + string.Join(", ", dropped));
        if (c.Profile != r.Profile)
            all.Add($"profile {r.Profile} instead of {c.Profile}");
        if (c.Key != r.Key)
            all.Add($"key {r.Key} instead of {c.Key}");
        if (c.Subject != r.Subject)
            all.Add($"subject {r.Subject} instead of {c.Subject}");
        return all.Count == 0 ? ["nothing but the dates and the key"] : all;
    }

    /// <summary>One public key of each kind, made when first asked for; nothing is ever signed with them.</summary>
    private static class SampleKeys
    {
        private static readonly System.Collections.Concurrent.ConcurrentDictionary<KeySpec, PublicKeyInfo> Made = [];

        public static PublicKeyInfo Of(KeySpec spec) =>
            Made.GetOrAdd(
                spec,
                static s =>
                {
                    using var key = KeySigner.NewKey(s);
                    return PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo());
                }
            );
    }
}
