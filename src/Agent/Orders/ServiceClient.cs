using System.Net;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using OrderlyBeacon.Agent.Enrolment;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Orders;

/// <summary>Talks to the service with the agent's certificate.</summary>
internal sealed class ServiceClient(AgentIdentity identity, Uri service) : IDisposable
{
    /// <summary>Octets.</summary>
    private const long Large = 1 << 20;

    private HttpClient _http = Make(identity, service);

    private static HttpClient Make(AgentIdentity identity, Uri service) =>
        AgentIdentity.Client(identity.Anchors(), identity.Load(), service);

    /// <summary>After the agent's certificate was renewed.</summary>
    public void Renew()
    {
        var old = _http;
        _http = Make(identity, service);
        old.Dispose();
    }

    public Task<OrderList> WorkAsync(TimeSpan wait, CancellationToken ct) =>
        SendAsync(HttpMethod.Get, $"/api/v1/agent/work?wait={(int)wait.TotalSeconds}", null, AgentMessageJson.Default.OrderList, ct)!;

    public Task ReportAsync(AgentReport report, CancellationToken ct) =>
        SendAsync<object>(HttpMethod.Post, "/api/v1/agent/report", JsonBody.Of(report, AgentMessageJson.Default.AgentReport), null, ct);

    public Task<OrderEdition> CsrAsync(long order, string csr, CancellationToken ct) =>
        SendAsync(
            HttpMethod.Post,
            $"/api/v1/agent/orders/{order}/csr",
            JsonBody.Of(new OrderCsr(csr), AgentMessageJson.Default.OrderCsr),
            AgentMessageJson.Default.OrderEdition,
            ct
        )!;

    public Task StepAsync(long order, string step, CancellationToken ct) =>
        SendAsync<object>(
            HttpMethod.Post,
            $"/api/v1/agent/orders/{order}/step",
            JsonBody.Of(new OrderStep(step), AgentMessageJson.Default.OrderStep),
            null,
            ct
        );

    public Task ResultAsync(long order, OrderResult result, CancellationToken ct) =>
        SendAsync<object>(
            HttpMethod.Post,
            $"/api/v1/agent/orders/{order}/result",
            JsonBody.Of(result, AgentMessageJson.Default.OrderResult),
            null,
            ct
        );

    private async Task<T?> SendAsync<T>(HttpMethod method, string path, HttpContent? content, JsonTypeInfo<T>? type, CancellationToken ct)
        where T : class
    {
        try
        {
            using var message = new HttpRequestMessage(method, path) { Content = content };
            // What is refused for its size is answered before it is sent: else the connection ends without the answer.
            message.Headers.ExpectContinue = content?.Headers.ContentLength > Large;
            using var answer = await _http.SendAsync(message, ct);
            if (answer.IsSuccessStatusCode)
                return type is null ? null : await JsonBody.ReadAsync(answer.Content, type, ct);
            var problem =
                answer.Content.Headers.ContentType?.MediaType == "application/problem+json"
                    ? await JsonBody.ReadAsync(answer.Content, AgentMessageJson.Default.Problem, ct)
                    : null;
            // A service that is starting, stopping or behind a proxy is away, not of another opinion.
            if ((int)answer.StatusCode >= 500 && problem?.Code is null or "internal" or "authority-not-ready" or "cannot-write")
                throw new BeaconProblem(ProblemCode.Unreachable, $"The service answered {(int)answer.StatusCode}.", "It is tried again.");
            var unnamed = answer.StatusCode == HttpStatusCode.Unauthorized ? ProblemCode.NotSignedIn : ProblemCode.Internal;
            throw new BeaconProblem(
                Enum.TryParse<ProblemCode>((problem?.Code ?? "").Replace("-", ""), true, out var code) ? code : unnamed,
                problem?.Detail ?? $"The service answered {(int)answer.StatusCode}.",
                problem?.Cure ?? "Look into the service's log."
            );
        }
        catch (Exception e)
            when (e is HttpRequestException or IOException or JsonException || (e is TaskCanceledException && !ct.IsCancellationRequested))
        {
            throw new BeaconProblem(
                ProblemCode.Unreachable,
                $"The service at {service} cannot be reached: {(e.InnerException ?? e).Message}",
                "It is tried again.",
                e
            );
        }
    }

    public void Dispose() => _http.Dispose();
}
