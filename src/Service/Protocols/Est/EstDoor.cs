using System.Text;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Enrolment;
using OrderlyBeacon.Service.People;

namespace OrderlyBeacon.Service.Protocols.Est;

/// <summary>Who brings what by EST: people with a password or token, hosts with a join code, holders of an edition with its key. What becomes of it is decided elsewhere.</summary>
internal sealed class EstDoor(
    SignInDesk desk,
    DomainPeople domain,
    Tickets tickets,
    ClientCertificates clients,
    EnrolDesk enrol,
    EnrolAgent agents
)
{
    private const string AgentProfile = "agent";

    public async Task<EnrolOutcome> FirstAsync(HttpContext context, string profile, byte[] body)
    {
        var ct = context.RequestAborted;
        if (profile != AgentProfile)
        {
            var caller = await CallerAsync(context, ct);
            return await enrol.FirstAsync(CertificationRequest.Read(body).ThrowIfUnusable(), profile, caller, ct);
        }
        if (Tickets.IsShown(context.Request))
        {
            var holder = await tickets.AcceptAsync(context);
            var made = CertificationRequest.Read(body).ThrowIfUnusable();
            return new EnrolOutcome.Issued(
                await agents.JoinByTicketAsync(made, holder, context.Connection.RemoteIpAddress?.ToString(), ct)
            );
        }
        var (name, code) =
            Basic(context)
            ?? throw new BeaconProblem(
                ProblemCode.JoinCodeRefused,
                "Joining needs the host's name and its join code as HTTP credentials.",
                "Make a code: beacon host invite NAME."
            );
        var csr = CertificationRequest.Read(body).ThrowIfUnusable();
        return new EnrolOutcome.Issued(await agents.JoinAsync(csr, name, code, context.Connection.RemoteIpAddress?.ToString(), ct));
    }

    /// <summary>A new edition for the holder of an old one (RFC 7030 section 4.2.2): the TLS connection proves that the key is theirs.</summary>
    public async Task<EnrolOutcome> AgainAsync(HttpContext context, string profile, byte[] body)
    {
        var ct = context.RequestAborted;
        var client =
            await clients.FindAsync(context, ct)
            ?? throw new BeaconProblem(
                ProblemCode.NotSignedIn,
                "Re-enrolment needs the certificate it renews as client certificate, valid and not revoked.",
                "Connect with it, or enrol anew with simpleenroll."
            );
        if (client.Edition.Profile != profile)
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"The client certificate was issued under \"{client.Edition.Profile}\", not \"{profile}\".",
                "Use the address of its own profile."
            );
        var csr = CertificationRequest.Read(body).ThrowIfUnusable();
        return profile == AgentProfile
            ? new EnrolOutcome.Issued(await agents.AgainAsync(csr, client, ct))
            : await enrol.AgainAsync(csr, client.Edition, ct);
    }

    /// <summary>By name and password, or by a token. Not by a cookie: a browser sends that along whoever asks.</summary>
    private async Task<Caller> CallerAsync(HttpContext context, CancellationToken ct)
    {
        var from = context.Connection.RemoteIpAddress?.ToString();
        if (Basic(context) is { } basic)
            return await desk.CheckBasicAsync(basic.Name, basic.Password, from ?? "", ct) with { From = from };
        if (BeaconAuthentication.Bearer(context.Request) is { } token && await desk.CheckTokenAsync(token, ct) is { } caller)
            return caller with { From = from };
        if (Tickets.IsShown(context.Request) && await tickets.AcceptAsync(context) is { IsComputer: false } holder)
            return await desk.CallerOfAsync(await domain.FindAsync(holder.Name, ct), ct) with { From = from };
        throw new BeaconProblem(
            ProblemCode.NotSignedIn,
            "Enrolment needs a person's credentials.",
            "Send your name and password by HTTP Basic, a token, or a Kerberos ticket by HTTP Negotiate."
        );
    }

    private static (string Name, string Password)? Basic(HttpContext context)
    {
        var header = context.Request.Headers.Authorization.ToString();
        if (!header.StartsWith("Basic ", StringComparison.OrdinalIgnoreCase))
            return null;
        try
        {
            var text = Encoding.UTF8.GetString(Convert.FromBase64String(header[6..].Trim()));
            var colon = text.IndexOf(':');
            return colon < 0 ? null : (text[..colon], text[(colon + 1)..]);
        }
        catch (FormatException)
        {
            return null;
        }
    }
}
