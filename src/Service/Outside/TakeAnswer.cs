using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Health;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Outside;

/// <summary>
/// Takes what an authority that is not ours has sent, in any form and order: each certificate finds the request that waits for it by its public key, wherever that waits. What
/// is as it was asked is put in place at once; what differs waits for somebody's decision.
/// </summary>
public sealed class TakeAnswer(
    BeaconDb db,
    OutsideBook book,
    CompleteRequest complete,
    FetchPoint fetch,
    Changes changes,
    TimeProvider clock
)
{
    private const int MostFetched = 4,
        MostFetchedBytes = 64 << 10;

    public async Task<AnswerOutcome> RunAsync(AnswerFiles wish, Caller caller, CancellationToken ct)
    {
        using var bag = CertificateBag.Read(Files(wish.Files), null, withKeys: false);
        if (bag.Leaves.Count == 0)
            throw new BeaconProblem(
                ProblemCode.FileNotRecognised,
                "There are authorities' certificates alone in it, and no answer to a request.",
                "Give the server's own certificate too."
            );
        // Whose they are is asked of all before anything is done with one.
        var answers = new List<(X509 Leaf, Request? Request)>();
        foreach (var leaf in bag.Leaves)
        {
            var request = await RequestForAsync(leaf, ct);
            if (request is not null)
                MayAct.ThrowUnless(Operation.TakeAnswer, caller, MayAct.Of(request));
            answers.Add((leaf, request));
        }
        var outcome = new List<AnsweredRequest>();
        foreach (var (leaf, request) in answers)
            outcome.Add(await OneAsync(leaf, request, bag, caller, ct));
        return new(outcome, bag.Notes);
    }

    public static IReadOnlyList<GivenFile> Files(IReadOnlyList<FilePart>? parts)
    {
        try
        {
            return [.. (parts ?? []).Select(f => new GivenFile(f.Name ?? "", Convert.FromBase64String(f.Content ?? "")))];
        }
        catch (FormatException e)
        {
            throw new BeaconProblem(ProblemCode.InputInvalid, "A file's content is not Base64.", "Send the files again.", e);
        }
    }

    /// <summary>The newest one with its key: a request that was withdrawn may have been made again for the same key by hand.</summary>
    private async Task<Request?> RequestForAsync(X509 leaf, CancellationToken ct)
    {
        var key = leaf.PublicKey.Fingerprint();
        return await db.Requests.AsNoTracking().Where(r => r.AnswerKey == key).OrderByDescending(r => r.Id).FirstOrDefaultAsync(ct);
    }

    private async Task<AnsweredRequest> OneAsync(X509 leaf, Request? request, CertificateBag bag, Caller caller, CancellationToken ct)
    {
        var name = leaf.Names.Count > 0 ? leaf.Names[0].ToString() : leaf.Subject.ToString();
        var key = leaf.PublicKey.Fingerprint();
        if (request is null)
            return new(name, null, false, await NobodyWaitsAsync(leaf, key, ct), null);
        AnsweredRequest Not(string told) => new(name, request.Id, false, told, null);
        try
        {
            if (request.State != RequestState.WaitingOutside)
                return Not(await WaitsNoMoreAsync(request, leaf, ct));
            var authority = book.Get(request.Outside!);
            var answer = await JudgeAsync(leaf, bag, authority, request, ct);
            if (answer.Differences.Count > 0)
                return Not(await HoldAsync(request.Id, answer, caller, ct));
            var order = await complete.RunAsync(request.Id, answer.Chain, caller, ct);
            return new(name, request.Id, true, $"It answers request {request.Id}; it is being put in place.", order);
        }
        catch (BeaconProblem p) when (p is not RefusedAttempt)
        {
            return Not($"{p.Message} {p.Cure}");
        }
    }

    private async Task<string> NobodyWaitsAsync(X509 leaf, string key, CancellationToken ct)
    {
        if (await db.Editions.AnyAsync(e => e.Thumbprint == leaf.Thumbprint.Hex, ct))
            return "It is on record already; nothing was changed.";
        var host = await db
            .StoredEntries.Where(e => e.Key == key)
            .Join(db.Hosts, e => e.HostId, h => h.Id, (_, h) => h.Name)
            .FirstOrDefaultAsync(ct);
        return host is null
            ? "No request here waits for its key, and no host is known to have it. Import it on the host where its key was made: beacon store import."
            : $"No request here waits for it, but its key is in the store of {host}. Pair them: beacon store import {host} FILE.";
    }

    private async Task<string> WaitsNoMoreAsync(Request request, X509 leaf, CancellationToken ct)
    {
        if (await db.Editions.AsNoTracking().FirstOrDefaultAsync(e => e.RequestId == request.Id, ct) is { } taken)
            return taken.Thumbprint == leaf.Thumbprint.Hex
                ? $"Request {request.Id} was answered with it already; nothing was changed."
                : $"Request {request.Id} was answered already, with the serial {taken.Serial}; this is another certificate for the same key. Nothing was changed: have the authority revoke the one that is not used.";
        return $"Request {request.Id} is {BeaconProblem.SlugOf(request.State).Replace('-', ' ')}: nothing was put in place. Have the authority revoke the certificate, or request it anew.";
    }

    /// <summary>What an answer lacks is fetched where its issuer says, from hosts that an authority keeper named.</summary>
    private async Task<OutsideAnswer> JudgeAsync(
        X509 leaf,
        CertificateBag bag,
        OutsideAuthority authority,
        Request request,
        CancellationToken ct
    )
    {
        var along = bag.Certificates.Where(c => c.IsAuthority).ToList();
        IReadOnlyList<AlternativeName> asked = [.. Shapes.Strings(request.NamesJson).Select(AlternativeName.Parse)];
        for (var fetched = 0; ; fetched++)
            try
            {
                return OutsideAnswers.Judge(
                    leaf,
                    along,
                    authority.Intermediates,
                    authority.Anchors,
                    asked,
                    authority.Name,
                    clock.GetUtcNow()
                );
            }
            catch (BeaconProblem) when (fetched < MostFetched && MissingAt(leaf, along, authority) is not null)
            {
                var uri = MissingAt(leaf, along, authority)!;
                var before = along.Count;
                along.AddRange(await FetchAsync(uri, ct));
                if (along.Count == before)
                    throw;
            }
    }

    private static string? MissingAt(X509 leaf, List<X509> along, OutsideAuthority authority)
    {
        var last = Core.Paths.ChainOrder.Of(leaf, along.Concat(authority.Intermediates))[^1];
        return last
            .Access.Where(a => a.Method == Oids.CaIssuers)
            .Select(a => a.Uri)
            .FirstOrDefault(u =>
                Uri.TryCreate(u, UriKind.Absolute, out var uri) && uri.Scheme == "http" && authority.FetchFrom.Contains(uri.Host)
            );
    }

    private async Task<IReadOnlyCollection<X509>> FetchAsync(string uri, CancellationToken ct)
    {
        var got = await fetch.RunAsync(uri, null, MostFetchedBytes, ct);
        if (got.Status != 200)
            return [];
        try
        {
            using var bag = CertificateBag.Read([new(uri, got.Body)], null, withKeys: false);
            return [.. bag.Certificates.Where(c => c.IsAuthority)];
        }
        catch (BeaconProblem)
        {
            return [];
        }
    }

    private async Task<string> HoldAsync(long id, OutsideAnswer answer, Caller caller, CancellationToken ct)
    {
        var held = new HeldAnswer(
            answer.Leaf.Serial.Hex,
            [.. answer.Leaf.Names.Select(n => n.ToString())],
            answer.Leaf.NotAfter,
            answer.Differences,
            clock.GetUtcNow()
        );
        await using var write = await db.BeginWriteAsync(ct);
        var request = await db.Requests.SingleAsync(r => r.Id == id, ct);
        request.Hold(JsonSerializer.Serialize(held, BeaconJson.Default.HeldAnswer), CompleteRequest.Pem(answer.Chain));
        await db.Note(held.At, caller.Actor, JournalAction.RequestHeld, $"request {id}", string.Join(" ", answer.Differences));
        await write.CommitAsync(ct);
        changes.Tell("request", id.ToString());
        return $"It is not what was asked for. {string.Join(" ", answer.Differences)} It waits for somebody else's decision: beacon request accept-answer {id}; or have the authority issue it as it was asked.";
    }
}
