using System.Net.Http.Headers;
using System.Net.Security;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>
/// Brings an authority's request to a parent service, in the name of somebody who may ask there; a person there approves it. The credentials are used once and
/// not kept: the answer is public, and is collected with the request's number and the key's fingerprint.
/// </summary>
public sealed class AskParent(BeaconDb db, AuthorityRegistry registry, TimeProvider clock, Changes changes)
{
    public async Task<string> RunAsync(string slug, ParentWish wish, Actor actor, CancellationToken ct)
    {
        var waiting = slug == Authority.IssuingSlug ? registry.Waiting : null;
        if (waiting is null)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"\"{slug}\" has no request that waits for an answer.",
                "Begin a renewal first: beacon authority renew issuing."
            );
        var csr = CertificationRequest.Read(waiting.Der.Span);
        if (!Uri.TryCreate(wish.Url, UriKind.Absolute, out var url) || url.Scheme != "https")
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"\"{wish.Url}\" is not the address of a service.",
                "Give it as https://HOST:PORT."
            );
        var generationId = await db
            .Generations.Where(g => g.Number == waiting.Number && db.Authorities.Any(a => a.Id == g.AuthorityId && a.Slug == slug))
            .Select(g => g.Id)
            .SingleAsync(ct);
        // Asked again after a lost answer it is the same request; after a refusal it is a new one.
        var tries = await db.ParentRequests.CountAsync(p => p.GenerationId == generationId && !p.Open, ct);
        var request = await SubmitAsync(url, wish, csr, $"Asked for by {actor}", waiting.Number, tries + 1, ct);
        await using (var write = await db.BeginWriteAsync(ct))
        {
            await KeepAsync(generationId, url.GetLeftPart(UriPartial.Authority), wish, csr, request.Number, ct);
            await db.Note(
                clock.GetUtcNow(),
                actor,
                JournalAction.AuthorityParentAsked,
                slug,
                $"request {request.Number} at {url.Authority}, as {wish.Name}"
            );
            await write.CommitAsync(ct);
        }
        changes.Tell("authority", slug);
        return $"It is request {request.Number} at {url.Authority} now. Somebody there approves it (beacon request approve {request.Number}); the answer is collected by itself.";
    }

    /// <param name="attempt">Which try for the generation it is: the same try again is the same request there.</param>
    private static async Task<RequestInfo> SubmitAsync(
        Uri url,
        ParentWish wish,
        CertificationRequest csr,
        string note,
        int generation,
        int attempt,
        CancellationToken ct
    )
    {
        using var http = Client(url, wish.Root);
        var session = await SendAsync(
            http,
            HttpMethod.Post,
            "/api/v1/session",
            new SignIn(wish.Name, wish.Password, "token"),
            BeaconJson.Default.SignIn,
            BeaconJson.Default.Session,
            null,
            ct
        );
        http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", session.Token);
        var request = await SendAsync(
            http,
            HttpMethod.Post,
            "/api/v1/requests",
            new NewRequest(
                null,
                string.IsNullOrWhiteSpace(wish.Profile) ? "subordinate" : wish.Profile,
                null,
                null,
                null,
                null,
                wish.Life,
                Armor.Write(Armor.CertificateRequest, csr.Der.Span),
                null,
                null,
                null,
                note
            ),
            BeaconJson.Default.NewRequest,
            BeaconJson.Default.RequestInfo,
            $"generation-{generation}-try-{attempt}-{Convert.ToHexStringLower(SHA256.HashData(csr.Der.Span))}",
            ct
        );
        if (request.State == RequestState.Refused)
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                $"The parent refuses: {request.Reason}",
                "Fix the cause; the request is then sent again."
            );
        return request;
    }

    /// <summary>What is asked of one parent is not asked of another any more.</summary>
    private async Task KeepAsync(
        int generationId,
        string place,
        ParentWish wish,
        CertificationRequest csr,
        long number,
        CancellationToken ct
    )
    {
        var open = await db.ParentRequests.Where(p => p.GenerationId == generationId && p.Open).ToListAsync(ct);
        foreach (var old in open.Where(p => p.Number != number || p.Url != place))
            old.Say("asked elsewhere", open: false);
        if (open.Exists(p => p.Open))
            return;
        db.ParentRequests.Add(
            new()
            {
                GenerationId = generationId,
                Url = place,
                Root = wish.Root,
                Number = number,
                Fingerprint = csr.PublicKey.Fingerprint(),
            }
        );
    }

    internal static HttpClient Client(Uri url, string root)
    {
        var policy = new X509ChainPolicy
        {
            TrustMode = X509ChainTrustMode.CustomRootTrust,
            RevocationMode = X509RevocationMode.NoCheck,
            DisableCertificateDownloads = true,
        };
        try
        {
            policy.CustomTrustStore.ImportFromPem(root);
        }
        catch (CryptographicException)
        {
            throw new BeaconProblem(ProblemCode.InputInvalid, "The parent's root cannot be read.", "Give its root.pem.");
        }
        if (policy.CustomTrustStore.Count == 0)
            throw new BeaconProblem(ProblemCode.InputInvalid, "There is no certificate in the parent's root.", "Give its root.pem.");
        return new(
            new SocketsHttpHandler
            {
                UseProxy = false,
                UseCookies = false,
                AllowAutoRedirect = false,
                SslOptions = new SslClientAuthenticationOptions
                {
                    CertificateChainPolicy = policy,
                    RemoteCertificateValidationCallback = (_, certificate, _, errors) =>
                        ServiceMark.IsShown(certificate?.GetRawCertData(), errors == SslPolicyErrors.None),
                },
            }
        )
        {
            BaseAddress = url,
            Timeout = TimeSpan.FromSeconds(20),
        };
    }

    internal static async Task<TAnswer> SendAsync<TBody, TAnswer>(
        HttpClient http,
        HttpMethod method,
        string path,
        TBody? body,
        JsonTypeInfo<TBody> bodyType,
        JsonTypeInfo<TAnswer> answerType,
        string? key,
        CancellationToken ct
    )
    {
        try
        {
            using var message = new HttpRequestMessage(method, path);
            if (body is not null)
                message.Content = JsonContent.Create(body, bodyType);
            if (key is not null)
                message.Headers.Add("Idempotency-Key", key);
            using var answer = await http.SendAsync(message, ct);
            var text = await answer.Content.ReadAsStringAsync(ct);
            if (answer.IsSuccessStatusCode)
                return JsonSerializer.Deserialize(text, answerType)!;
            var p =
                answer.Content.Headers.ContentType?.MediaType == "application/problem+json"
                    ? JsonSerializer.Deserialize(text, BeaconJson.Default.Problem)
                    : null;
            throw new BeaconProblem(
                answer.StatusCode == System.Net.HttpStatusCode.NotFound ? ProblemCode.NotFound : ProblemCode.Unreachable,
                $"The parent answers {(int)answer.StatusCode}: {p?.Detail ?? "nothing that is understood"}",
                p?.Cure ?? "Check its address."
            );
        }
        catch (Exception e)
            when (e is HttpRequestException or JsonException || (e is OperationCanceledException && !ct.IsCancellationRequested))
        {
            throw new BeaconProblem(
                ProblemCode.Unreachable,
                $"The parent {http.BaseAddress} cannot be reached: {(e.InnerException ?? e).Message}",
                "Check its address, its root and the network.",
                e
            );
        }
    }
}
