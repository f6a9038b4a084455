using System.Text.Encodings.Web;
using Microsoft.AspNetCore.Authentication;
using Microsoft.Extensions.Options;

namespace OrderlyBeacon.Service.People;

/// <summary>Who calls: by bearer token (client), cookie (console) or client certificate (agents).</summary>
internal sealed class BeaconAuthentication(
    IOptionsMonitor<AuthenticationSchemeOptions> options,
    ILoggerFactory logger,
    SignInDesk desk,
    ClientCertificates certificates
) : AuthenticationHandler<AuthenticationSchemeOptions>(options, logger, UrlEncoder.Default)
{
    // The prefix makes browsers insist on Secure, Path=/ and no Domain.
    public const string Cookie = "__Host-beacon";

    protected override async Task<AuthenticateResult> HandleAuthenticateAsync()
    {
        var ct = Context.RequestAborted;
        if (Token(Request) is { } token)
            return await desk.CheckTokenAsync(token, ct) is { } caller
                ? Success(caller)
                : AuthenticateResult.Fail("The sign-in has run out.");
        if (await certificates.FindAsync(Context, ct) is { Host: { } host, HostId: { } id })
            return Success(new(host, [], host) { HostId = id });
        return AuthenticateResult.NoResult();

        static AuthenticateResult Success(Caller c) => AuthenticateResult.Success(new(c.Principal(Caller.Scheme), Caller.Scheme));
    }

    /// <summary>From the header, or else from the console's cookie.</summary>
    public static string? Token(HttpRequest request) =>
        Bearer(request) ?? (request.Cookies.TryGetValue(Cookie, out var cookie) ? cookie : null);

    public static string? Bearer(HttpRequest request)
    {
        var header = request.Headers.Authorization.ToString();
        return header.StartsWith("Bearer ", StringComparison.OrdinalIgnoreCase) ? header[7..].Trim() : null;
    }
}
