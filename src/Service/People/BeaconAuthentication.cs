using System.Collections.Concurrent;
using System.Text.Encodings.Web;
using Microsoft.AspNetCore.Authentication;
using Microsoft.EntityFrameworkCore;
using Microsoft.Extensions.Options;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.People;

/// <summary>Who calls: by client certificate (agents), bearer token (client) or cookie (console).</summary>
internal sealed class BeaconAuthentication(
    IOptionsMonitor<AuthenticationSchemeOptions> options,
    ILoggerFactory logger,
    UrlEncoder encoder,
    SignInDesk desk,
    ClientCertificates certificates
) : AuthenticationHandler<AuthenticationSchemeOptions>(options, logger, encoder)
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
        if (await certificates.FindAsync(Context, ct) is { Host: { } host })
            return Success(new(host, [], host));
        return AuthenticateResult.NoResult();

        static AuthenticateResult Success(Caller c) => AuthenticateResult.Success(new(c.Principal(Caller.Scheme), Caller.Scheme));
    }

    public static string? Token(HttpRequest request)
    {
        var header = request.Headers.Authorization.ToString();
        if (header.StartsWith("Bearer ", StringComparison.OrdinalIgnoreCase))
            return header[7..].Trim();
        return request.Cookies.TryGetValue(Cookie, out var cookie) ? cookie : null;
    }

    protected override Task HandleChallengeAsync(AuthenticationProperties properties) =>
        Problems.WriteAsync(
            Context,
            new BeaconProblem(ProblemCode.NotSignedIn, "Nobody is signed in, or the sign-in has run out.", "Sign in: beacon sign-in.")
        );

    protected override Task HandleForbiddenAsync(AuthenticationProperties properties) =>
        Problems.WriteAsync(
            Context,
            new BeaconProblem(
                ProblemCode.NotAllowed,
                $"{Caller.Of(Context.User).Actor} may not do this.",
                "Ask an administrator to do it or to put you into the right group."
            )
        );
}

/// <summary>A client certificate that is one of our editions and good now.</summary>
public sealed record KnownClient(Edition Edition, string? Host);

/// <summary>
/// Recognises client certificates: TLS has proved possession of the key; here the certificate must be an edition on record, byte for byte,
/// not revoked, in its life. Agents' editions stand for their host.
/// </summary>
public sealed class ClientCertificates(IServiceScopeFactory scopes, TimeProvider clock)
{
    private static readonly TimeSpan CacheLife = TimeSpan.FromSeconds(20);
    private readonly ConcurrentDictionary<string, (KnownClient? Client, DateTimeOffset Until)> _cache = [];

    /// <summary>After a revocation or a removal.</summary>
    public void Forget() => _cache.Clear();

    public async Task<KnownClient?> FindAsync(HttpContext context, CancellationToken ct)
    {
        if (context.Connection.ClientCertificate is not { } shown)
            return null;
        var thumbprint = Thumbprint.Of(shown.RawDataMemory.Span).Hex;
        var now = clock.GetUtcNow();
        if (_cache.TryGetValue(thumbprint, out var known) && known.Until > now)
            return Alive(known.Client, now);
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        var edition = await db.Editions.AsNoTracking().FirstOrDefaultAsync(e => e.Thumbprint == thumbprint, ct);
        KnownClient? client = null;
        if (edition is not null && edition.RevokedAt is null)
        {
            string? host = null;
            if (edition.Profile == "agent")
            {
                var certificate = await db.Certificates.AsNoTracking().SingleAsync(c => c.Id == edition.CertificateId, ct);
                var row = await db.Hosts.AsNoTracking().FirstOrDefaultAsync(h => h.Id == certificate.HostId, ct);
                host = row?.State == HostState.Joined ? row.Name : null;
            }
            client = new(edition, host);
        }
        if (_cache.Count > 100_000)
            _cache.Clear();
        _cache[thumbprint] = (client, now + CacheLife);
        return Alive(client, now);
    }

    private static KnownClient? Alive(KnownClient? c, DateTimeOffset now) =>
        c is not null && c.Edition.NotBefore <= now && now <= c.Edition.NotAfter ? c : null;
}
