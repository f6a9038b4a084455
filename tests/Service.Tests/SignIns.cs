using System.Net;
using System.Net.Sockets;
using System.Text.RegularExpressions;

namespace OrderlyBeacon.Service.Tests;

/// <summary>Somebody who signs in by a provider at its partners, again and again, as a browser does.</summary>
internal sealed partial class SignIns(PlayedProvider provider, IReadOnlyList<(string Entity, string Acs)> partners) : IAsyncDisposable
{
    private readonly CancellationTokenSource _stop = new();
    private Task _going = Task.CompletedTask;

    public List<string> Refused { get; } = [];
    public int Welcome { get; private set; }

    public SignIns Start()
    {
        _going = Task.Run(async () =>
        {
            for (var i = 0; !_stop.IsCancellationRequested; i++)
            {
                var (entity, acs) = partners[i % partners.Count];
                var (code, text) = await OnceAsync(entity, acs);
                if (code == HttpStatusCode.OK && text.StartsWith("welcome wren", StringComparison.Ordinal))
                    Welcome++;
                else
                    Refused.Add($"{DateTime.UtcNow:HH:mm:ss} {entity}: {(int)code} {text[..Math.Min(200, text.Length)]}");
                await Task.Delay(200);
            }
        });
        return this;
    }

    private async Task<(HttpStatusCode, string)> OnceAsync(string entity, string acs)
    {
        using var browser = Browser();
        var start =
            $"https://{PlayedProvider.Name}:{provider.Port}/saml/saml2/idp/SSOService.php?spentityid={Uri.EscapeDataString(entity)}";
        using var login = await browser.GetAsync(start);
        var page = await login.Content.ReadAsStringAsync();
        var state = WebUtility.HtmlDecode(AuthState().Match(page).Groups[1].Value);
        var form = new Dictionary<string, string>
        {
            ["AuthState"] = state,
            ["username"] = "wren",
            ["password"] = "letmein",
        };
        using var signed = await browser.PostAsync(
            login.RequestMessage!.RequestUri!.GetLeftPart(UriPartial.Path),
            new FormUrlEncodedContent(form)
        );
        var response = Response().Match(await signed.Content.ReadAsStringAsync()).Groups[1].Value;
        using var direct = new HttpClient();
        using var answer = await direct.PostAsync(acs, new FormUrlEncodedContent([new("SAMLResponse", WebUtility.HtmlDecode(response))]));
        return (answer.StatusCode, await answer.Content.ReadAsStringAsync());
    }

    private HttpClient Browser()
    {
        var handler = new SocketsHttpHandler { CookieContainer = new() };
        handler.SslOptions.RemoteCertificateValidationCallback = (_, _, _, _) => true;
        handler.ConnectCallback = async (_, ct) =>
        {
            var socket = new Socket(SocketType.Stream, ProtocolType.Tcp);
            await socket.ConnectAsync(provider.Address, provider.Port, ct);
            return new NetworkStream(socket, ownsSocket: true);
        };
        return new(handler) { Timeout = TimeSpan.FromSeconds(30) };
    }

    public async Task StopAsync()
    {
        await _stop.CancelAsync();
        await _going;
    }

    public async ValueTask DisposeAsync()
    {
        await StopAsync();
        _stop.Dispose();
    }

    [GeneratedRegex("name=.AuthState. value=.([^\"']*)")]
    private static partial Regex AuthState();

    [GeneratedRegex("name=.SAMLResponse. value=.([^\"']*)")]
    private static partial Regex Response();
}
