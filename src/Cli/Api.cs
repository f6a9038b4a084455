using System.Diagnostics;
using System.Net;
using System.Net.Http.Headers;
using System.Net.Security;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;

namespace OrderlyBeacon.Cli;

/// <summary>Calls the service's HTTP API.</summary>
internal sealed class Api : IDisposable
{
    private readonly HttpClient _http;

    public Api(string service, string rootPem, string? token)
    {
        _http = Client(service, rootPem);
        if (token is not null)
            _http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", token);
    }

    public static Api SignedIn()
    {
        var s = Cli.Session.Load();
        return new(s.Service, s.Root, s.Token);
    }

    /// <param name="rootPem">The only root that is trusted; null trusts anything, for looking at an unknown service's root.</param>
    public static HttpClient Client(string service, string? rootPem)
    {
        OwnTrust.Only();
        var handler = new SocketsHttpHandler { UseProxy = false, UseCookies = false };
        if (rootPem is null)
            handler.SslOptions.RemoteCertificateValidationCallback = (_, _, _, _) => true;
        else
        {
            var policy = new X509ChainPolicy
            {
                TrustMode = X509ChainTrustMode.CustomRootTrust,
                RevocationMode = X509RevocationMode.NoCheck,
                DisableCertificateDownloads = true,
            };
            policy.CustomTrustStore.ImportFromPem(rootPem);
            handler.SslOptions = new SslClientAuthenticationOptions
            {
                CertificateChainPolicy = policy,
                // A certificate for the service's name is not enough: only the service itself has the mark.
                RemoteCertificateValidationCallback = (_, certificate, _, errors) =>
                    ServiceMark.IsShown(certificate?.GetRawCertData(), errors == SslPolicyErrors.None),
            };
        }
        return new HttpClient(handler) { BaseAddress = new Uri(service), Timeout = TimeSpan.FromSeconds(60) };
    }

    public async Task<string> TextAsync(string path, CancellationToken ct)
    {
        using var answer = await SendAsync(new(HttpMethod.Get, path), ct);
        return await answer.Content.ReadAsStringAsync(ct);
    }

    /// <summary>How long a list may take before it is said how far it is.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(2);

    /// <summary>All of a list, page by page.</summary>
    /// <param name="path">With its query; <c>after</c> is added.</param>
    /// <param name="most">Where to stop; null reads to the end.</param>
    /// <param name="cursor">What the list goes on by: behind the last row, or back from it where the newest come first.</param>
    public async Task<List<T>> AllAsync<T>(
        string path,
        JsonTypeInfo<Page<T>> type,
        int? most,
        CancellationToken ct,
        string cursor = "after"
    )
    {
        var all = new List<T>();
        string? at = null;
        var (clock, told) = (Stopwatch.StartNew(), TimeSpan.Zero);
        do
        {
            var next = at is null ? "" : $"{(path.Contains('?') ? "&" : "?")}{cursor}={Escape(at)}";
            var page = await GetAsync(path + next, type, ct);
            all.AddRange(page.Items);
            at = page.Next;
            if (at is not null && !Console.IsErrorRedirected && clock.Elapsed > told + Patience)
            {
                told = clock.Elapsed;
                var where = cursor == "before" ? $", back to number {at}" : "";
                await Console.Error.WriteLineAsync($"beacon: {all.Count} so far{where} …");
            }
        } while (at is not null && !(all.Count >= most));
        return most is { } n && all.Count > n ? all[..n] : all;
    }

    public async Task<T> GetAsync<T>(string path, JsonTypeInfo<T> type, CancellationToken ct) => Read(await TextAsync(path, ct), type);

    public static T Read<T>(string json, JsonTypeInfo<T> type) =>
        JsonSerializer.Deserialize(json, type)
        ?? throw new BeaconProblem(ProblemCode.DataDamaged, "The service's answer is empty.", "Update the client.");

    /// <summary>A POST that changes something carries a key of its own, so that trying again does it once.</summary>
    public async Task<string> PostAsync<TBody>(string path, TBody body, JsonTypeInfo<TBody> type, CancellationToken ct)
    {
        var key = Guid.NewGuid().ToString();
        HttpRequestMessage Make()
        {
            var message = new HttpRequestMessage(HttpMethod.Post, path) { Content = JsonBody.Of(body, type) };
            message.Headers.Add("Idempotency-Key", key);
            return message;
        }
        for (var tries = 0; ; tries++)
        {
            try
            {
                using var answer = await ProvenAsync(Make, ct);
                return await answer.Content.ReadAsStringAsync(ct);
            }
            catch (BeaconProblem p) when (p.Code == ProblemCode.Unreachable && tries < 2)
            {
                await Task.Delay(TimeSpan.FromMilliseconds(500 << tries), ct);
            }
        }
    }

    /// <summary>A POST that says it all by its address.</summary>
    public async Task<string> PostAsync(string path, CancellationToken ct)
    {
        using var answer = await ProvenAsync(() => new(HttpMethod.Post, path), ct);
        return await answer.Content.ReadAsStringAsync(ct);
    }

    /// <summary>A call that may want the password once more: where there is a terminal it is asked for, and the call repeated.</summary>
    public async Task<HttpResponseMessage> ProvenAsync(Func<HttpRequestMessage> make, CancellationToken ct)
    {
        try
        {
            return await SendAsync(make(), ct);
        }
        catch (BeaconProblem p) when (p.Code == ProblemCode.SignInAgain && !Console.IsInputRedirected)
        {
            await ConfirmAsync(
                Secrets.Ask("This outlasts your sign-in. Your password once more: ", "it at a terminal: beacon sign-in confirm"),
                ct
            );
            return await SendAsync(make(), ct);
        }
    }

    /// <summary>Signs in by the Kerberos ticket of whoever runs this (HTTP Negotiate, RFC 4559). The ticket is for the address's own name and for this connection's certificate.</summary>
    public async Task<Contracts.Session> SignInByTicketAsync(CancellationToken ct)
    {
        using var negotiation = new NegotiateAuthentication(
            new NegotiateAuthenticationClientOptions
            {
                Package = "Kerberos",
                Credential = CredentialCache.DefaultNetworkCredentials,
                TargetName = "HTTP/" + _http.BaseAddress!.Host,
            }
        );
        var token = negotiation.GetOutgoingBlob(ReadOnlySpan<byte>.Empty, out var status);
        if (
            token is null
            || status is not (NegotiateAuthenticationStatusCode.Completed or NegotiateAuthenticationStatusCode.ContinueNeeded)
        )
            throw new BeaconProblem(
                ProblemCode.TicketRefused,
                $"There is no Kerberos ticket for {_http.BaseAddress.Host} to be had ({status}).",
                "Get one with kinit, and see it with klist; the service's name must be one that the domain knows."
            );
        using var message = new HttpRequestMessage(HttpMethod.Post, "/api/v1/session/ticket")
        {
            Content = JsonBody.Of(new TicketSignIn("token"), BeaconJson.Default.TicketSignIn),
            Headers = { Authorization = new("Negotiate", Convert.ToBase64String(token)) },
        };
        using var answer = await SendAsync(message, ct);
        return Read(await answer.Content.ReadAsStringAsync(ct), BeaconJson.Default.Session);
    }

    /// <summary>Proves once more who is signed in.</summary>
    public async Task ConfirmAsync(string password, CancellationToken ct)
    {
        using var message = new HttpRequestMessage(HttpMethod.Post, "/api/v1/session/confirm")
        {
            Content = JsonBody.Of(new ConfirmSignIn(password), BeaconJson.Default.ConfirmSignIn),
        };
        using var answer = await SendAsync(message, ct);
    }

    /// <summary>A PUT that changes something.</summary>
    public async Task<string> PutAsync<TBody>(string path, TBody body, JsonTypeInfo<TBody> type, CancellationToken ct)
    {
        using var answer = await ProvenAsync(() => new(HttpMethod.Put, path) { Content = JsonBody.Of(body, type) }, ct);
        return await answer.Content.ReadAsStringAsync(ct);
    }

    public async Task<HttpResponseMessage> SendAsync(HttpRequestMessage message, CancellationToken ct)
    {
        HttpResponseMessage answer;
        try
        {
            answer = await _http.SendAsync(message, ct);
        }
        catch (HttpRequestException e)
        {
            throw new BeaconProblem(
                ProblemCode.Unreachable,
                $"{_http.BaseAddress} cannot be reached: {(e.InnerException ?? e).Message}",
                "Check that beacond runs and the address is right; sign in again if the service has moved.",
                e
            );
        }
        catch (TaskCanceledException e) when (!ct.IsCancellationRequested)
        {
            throw new BeaconProblem(ProblemCode.Unreachable, $"{_http.BaseAddress} did not answer in time.", "Try again.", e);
        }
        if (answer.IsSuccessStatusCode)
            return answer;
        using (answer)
        {
            Problem? p = null;
            try
            {
                p = await JsonBody.ReadAsync(answer.Content, BeaconJson.Default.Problem, ct);
            }
            catch (JsonException) { }
            throw new BeaconProblem(
                Enum.TryParse<ProblemCode>((p?.Code ?? "").Replace("-", ""), true, out var code) ? code : ProblemCode.Internal,
                p?.Detail ?? $"The service answered {(int)answer.StatusCode} {answer.ReasonPhrase}.",
                p?.Cure ?? "Look into the service's log."
            );
        }
    }

    public static string Escape(string part) => Uri.EscapeDataString(part);

    /// <summary>Query text from name and value pairs; empty values are left out.</summary>
    public static string Query(params (string Name, string? Value)[] pairs)
    {
        var text = new StringBuilder();
        foreach (var (name, value) in pairs)
            if (!string.IsNullOrEmpty(value))
                text.Append(text.Length == 0 ? '?' : '&').Append(name).Append('=').Append(Escape(value));
        return text.ToString();
    }

    public void Dispose() => _http.Dispose();
}
