using System.Net.Http.Headers;
using System.Net.Security;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using System.Text.Json.Nodes;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Devices;

/// <summary>
/// A network appliance with a candidate and a running configuration: what is changed is a candidate until it is committed. It takes an answer only when it has the root already.
/// Its own certificate is pinned: nothing else vouches for a device before it has one of ours.
/// </summary>
internal sealed class Appliance : IDevice
{
    public const string Kind = "appliance";
    private const int MostAnswer = 1 << 20;
    private readonly HttpClient _http;
    private readonly DeviceAccess _access;
    private string? _shown;

    public Appliance(DeviceAccess access)
    {
        _access = access;
        var pin = access.Fingerprint?.Replace(":", "").ToLowerInvariant();
        _http = new(
            new SocketsHttpHandler
            {
                UseProxy = false,
                AllowAutoRedirect = false,
                UseCookies = false,
                SslOptions = new SslClientAuthenticationOptions
                {
                    RemoteCertificateValidationCallback = (_, certificate, _, _) =>
                    {
                        _shown = certificate is null ? null : Convert.ToHexStringLower(SHA256.HashData(certificate.GetRawCertData()));
                        return pin is not null && _shown == pin;
                    },
                    CertificateChainPolicy = new() { DisableCertificateDownloads = true, RevocationMode = X509RevocationMode.NoCheck },
                },
            }
        )
        {
            BaseAddress = new Uri(access.Address),
            Timeout = TimeSpan.FromSeconds(20),
            MaxResponseContentBufferSize = MostAnswer,
        };
        _http.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue("Bearer", access.Token);
    }

    public async Task<string> GreetAsync(CancellationToken ct)
    {
        var state = await AskAsync(HttpMethod.Get, "state", null, ct);
        return $"{_access.Address} answers: {Text(state, "model")}, running configuration {state["running"]?["revision"]?.ToString() ?? "?"}";
    }

    public async Task<string> RequestAsync(DeviceRequest request, CancellationToken ct)
    {
        var wish = new JsonObject
        {
            ["subject"] = request.Subject.ToString(),
            ["names"] = new JsonArray([.. request.Names.Select(n => (JsonNode)n.ToString())]),
            ["key"] = request.Key.ToString(),
        };
        return Text(await AskAsync(HttpMethod.Put, $"requests/{request.Label}", wish, ct), "csr");
    }

    public async Task InstallAsync(DeviceRequest request, string chain, string root, Action<string> step, CancellationToken ct)
    {
        var anchors = (await AskAsync(HttpMethod.Get, "anchors", null, ct))["anchors"]?.AsArray() ?? [];
        if (!anchors.Any(a => a?.ToString().Trim() == root.Trim()))
        {
            step("the device gets the root first");
            await AskAsync(HttpMethod.Post, "anchors", new() { ["certificate"] = root }, ct);
        }
        try
        {
            step("the device gets the answer");
            await AskAsync(HttpMethod.Put, $"requests/{request.Label}/answer", new() { ["chain"] = chain }, ct);
            step("the device commits its configuration");
            await AskAsync(HttpMethod.Post, "commit", [], ct);
        }
        catch (BeaconProblem)
        {
            // Its candidate is taken back, so that nobody commits half of it later; what runs was not touched.
            await RevertAsync(ct);
            throw;
        }
        // It may show another certificate from now on, also to us: the one that it was given.
    }

    private async Task RevertAsync(CancellationToken ct)
    {
        try
        {
            await AskAsync(HttpMethod.Post, "revert", [], ct);
        }
        catch (BeaconProblem) { }
    }

    // A commit is for good; the device has tested it.
    public Task ConfirmAsync(DeviceRequest request, CancellationToken ct) => Task.CompletedTask;

    public Task<bool> TakeBackAsync(DeviceRequest request, CancellationToken ct) => Task.FromResult(false);

    public async Task<DeviceFront?> FrontAsync(CancellationToken ct)
    {
        var front = (await AskAsync(HttpMethod.Get, "state", null, ct))["front"];
        return front?["address"]?.ToString() is { Length: > 0 } address && int.TryParse(front["port"]?.ToString(), out var port)
            ? new(address, port, ProbeProtocol.Tls)
            : null;
    }

    private static string Text(JsonObject answer, string field) =>
        answer[field]?.ToString() is { Length: > 0 } text
            ? text
            : throw new BeaconProblem(
                ProblemCode.DataDamaged,
                $"The device's answer has no \"{field}\".",
                "See whether it is a device of this kind, and its version."
            );

    private async Task<JsonObject> AskAsync(HttpMethod method, string path, JsonObject? body, CancellationToken ct)
    {
        try
        {
            using var ask = new HttpRequestMessage(method, "/appliance/v1/" + path);
            if (body is not null)
                ask.Content = new StringContent(body.ToJsonString(), Encoding.UTF8, "application/json");
            using var answer = await _http.SendAsync(ask, ct);
            var text = await answer.Content.ReadAsStringAsync(ct);
            if (!answer.IsSuccessStatusCode)
                throw Refused((int)answer.StatusCode, text);
            return text.Length == 0 ? [] : JsonNode.Parse(text) as JsonObject ?? [];
        }
        catch (System.Text.Json.JsonException e)
        {
            throw new BeaconProblem(
                ProblemCode.DataDamaged,
                $"{_access.Address} does not answer as such a device does.",
                "Check the address, and that it is a device of this kind.",
                e
            );
        }
        catch (HttpRequestException e)
        {
            throw _shown is not null && _shown != _access.Fingerprint?.Replace(":", "").ToLowerInvariant()
                ? OtherCertificate(e)
                : Away(e.Message, e);
        }
        catch (TaskCanceledException e) when (!ct.IsCancellationRequested)
        {
            throw Away("it did not answer within 20 seconds", e);
        }
    }

    private BeaconProblem OtherCertificate(Exception e) =>
        new(
            ProblemCode.WrongFile,
            _access.Fingerprint is null
                ? $"{_access.Address} shows a certificate with the fingerprint {_shown}; nothing was sent to it."
                : $"{_access.Address} shows another certificate than it did: {_shown}. Nothing was sent to it.",
            "Compare it at the device itself; then give it: beacon device add … --fingerprint.",
            e
        );

    // The agent's own service being away is tried again for ever; a device that is away ends this order.
    private BeaconProblem Away(string why, Exception e) =>
        new(
            ProblemCode.HostAway,
            $"{_access.Address} cannot be reached: {why.TrimEnd('.')}.",
            "See whether it runs, and whether this agent's host gets there.",
            e
        );

    private BeaconProblem Refused(int status, string text)
    {
        var why = text.Length is > 0 and < 300 && !text.Contains('<') ? text : $"status {status}";
        return status is 401 or 403
            ? new(
                ProblemCode.NotAllowed,
                $"{_access.Address} does not let this agent in ({why}).",
                "Give it a token that may change certificates: beacon device add."
            )
            : new(ProblemCode.AnswerRefused, $"{_access.Address} refuses: {why}.", "Correct it at the device; then repeat.");
    }

    public void Dispose() => _http.Dispose();
}
