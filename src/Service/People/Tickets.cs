using System.Net;
using System.Net.Security;
using OrderlyBeacon.Core;
using OrderlyBeacon.Service.Domain;

namespace OrderlyBeacon.Service.People;

/// <summary>Whom a ticket is of.</summary>
/// <param name="Account">The part in front of the realm: <c>alice</c>, <c>WEB01$</c>.</param>
/// <param name="Name">As people are called here: <c>alice@thistledown.example</c>.</param>
public sealed record TicketHolder(string Account, string Name)
{
    public bool IsComputer => Account.EndsWith('$');
}

/// <summary>
/// Takes Kerberos tickets over HTTP (Negotiate, RFC 4559; RFC 4121). One step only: what wants more is not Kerberos, and nothing else is taken. The library's own memory of
/// tickets refuses one that comes twice. It does not look at channel bindings (RFC 5929) on this platform: who shows a ticket has to know whom he shows it to.
/// </summary>
public sealed class Tickets(BeaconOptions options, DirectoryBook directory, ILogger<Tickets> log)
{
    private const string Scheme = "Negotiate ";
    private const int MostBytes = 64 << 10;

    /// <summary>A realm that does not answer holds a few threads, not all.</summary>
    private readonly SemaphoreSlim _asking = new(4);

    public bool AreTaken => options.Keytab.Length > 0;

    public static bool IsShown(HttpRequest request) =>
        request.Headers.Authorization.ToString().StartsWith(Scheme, StringComparison.OrdinalIgnoreCase);

    /// <summary>Asks for one: for the answer to a call without.</summary>
    public static void Challenge(HttpResponse response) =>
        // Whatever writes the failure clears the headers first.
        response.OnStarting(() =>
        {
            response.Headers.Append("WWW-Authenticate", "Negotiate");
            return Task.CompletedTask;
        });

    /// <summary>Who shows a ticket with this call. The answer carries the service's own proof, that it has the key which the ticket was made for.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.TicketRefused"/>.</exception>
    public async Task<TicketHolder> AcceptAsync(HttpContext context)
    {
        var (principal, answer) = Take(context);
        var holder = Holder(principal, await directory.RealmAsync(context.RequestAborted));
        if (answer is { Length: > 0 })
            context.Response.Headers.WWWAuthenticate = Scheme + Convert.ToBase64String(answer);
        return holder;
    }

    private (string Principal, byte[]? Answer) Take(HttpContext context)
    {
        if (!AreTaken)
            throw Refused("Tickets are not taken here.", "Sign in with a password; or have the service given its keytab (BEACON_KEYTAB).");
        var text = context.Request.Headers.Authorization.ToString();
        var token = new byte[text.Length];
        if (
            !IsShown(context.Request)
            || text.Length > MostBytes
            || !Convert.TryFromBase64String(text[Scheme.Length..].Trim(), token, out var length)
        )
            throw Refused("The call brings no Kerberos ticket that can be read.", "Get one with kinit, and call with HTTP Negotiate.");
        if (token.AsSpan(0, length).StartsWith("NTLMSSP"u8))
            throw Refused("NTLM is not taken: it proves a password to whoever is in between.", "Get a Kerberos ticket: kinit.");
        using var negotiation = new NegotiateAuthentication(
            new NegotiateAuthenticationServerOptions { Package = "Negotiate", Credential = CredentialCache.DefaultNetworkCredentials }
        );
        var answer = negotiation.GetOutgoingBlob(token.AsSpan(0, length), out var status);
        if (status != NegotiateAuthenticationStatusCode.Completed || negotiation.Package != "Kerberos")
            throw Why(status);
        return (negotiation.RemoteIdentity.Name ?? "", answer);
    }

    /// <summary>
    /// Whether the password is the account's: a ticket for this very service is asked for with it, and taken as any other. The key proves that the answer came from the realm.
    /// </summary>
    public async Task<bool> IsPasswordOfAsync(string name, string password, CancellationToken ct)
    {
        await _asking.WaitAsync(ct);
        try
        {
            var realm = await directory.RealmAsync(ct);
            return await Task.Run(() => IsPasswordOf(name, password, realm), ct);
        }
        finally
        {
            _asking.Release();
        }
    }

    private bool IsPasswordOf(string name, string password, string realm)
    {
        var account = name.Split('@')[0];
        using var client = new NegotiateAuthentication(
            new NegotiateAuthenticationClientOptions
            {
                Package = "Kerberos",
                Credential = new NetworkCredential(account, password, realm),
                TargetName = $"HTTP/{options.NameList[0]}",
            }
        );
        using var server = new NegotiateAuthentication(
            new NegotiateAuthenticationServerOptions { Package = "Kerberos", Credential = CredentialCache.DefaultNetworkCredentials }
        );
        var token = client.GetOutgoingBlob(ReadOnlySpan<byte>.Empty, out var asked);
        if (token is null || asked is not (NegotiateAuthenticationStatusCode.Completed or NegotiateAuthenticationStatusCode.ContinueNeeded))
            return false;
        server.GetOutgoingBlob(token, out var taken);
        return taken == NegotiateAuthenticationStatusCode.Completed
            && Holder(server.RemoteIdentity.Name ?? "", realm).Account.Equals(account, StringComparison.OrdinalIgnoreCase);
    }

    private static TicketHolder Holder(string principal, string ours)
    {
        var at = principal.LastIndexOf('@');
        var (account, realm) = at < 0 ? (principal, "") : (principal[..at], principal[(at + 1)..]);
        // Another realm's alice is not ours.
        if (ours.Length == 0 || realm != ours)
            throw Refused(
                $"The ticket is of the realm {realm}; {(ours.Length == 0 ? "none" : ours + " alone")} is taken here.",
                "Sign in with an account of that realm: kinit NAME@REALM."
            );
        if (account.Contains('/') || account.Contains('@') || account.Length is 0 or > 64)
            throw Refused(
                $"{principal} is neither a person nor a computer.",
                "Sign in with a person's account, or from a computer's keytab."
            );
        return new(account, $"{account.ToLowerInvariant()}@{realm.ToLowerInvariant()}");
    }

    private BeaconProblem Why(NegotiateAuthenticationStatusCode status)
    {
        log.LogInformation("A ticket was refused: {Status}", status);
        return status switch
        {
            NegotiateAuthenticationStatusCode.ContextExpired or NegotiateAuthenticationStatusCode.CredentialsExpired => Refused(
                "The ticket has expired.",
                "Get a new one: kinit."
            ),
            NegotiateAuthenticationStatusCode.OutOfSequence => Refused(
                "The ticket was used before.",
                "Call again; each call brings one of its own."
            ),
            NegotiateAuthenticationStatusCode.ContinueNeeded or NegotiateAuthenticationStatusCode.Completed => Refused(
                "What was shown is no Kerberos ticket.",
                "Get one: kinit. NTLM and the like are not taken."
            ),
            _ => Refused(
                "The ticket is not good here.",
                $"See that it is for HTTP/{options.NameList[0]} and valid now (klist), that both clocks are right to five minutes, and that the service's keytab is the newest."
            ),
        };
    }

    private static BeaconProblem Refused(string why, string cure) => new(ProblemCode.TicketRefused, why, cure);
}
