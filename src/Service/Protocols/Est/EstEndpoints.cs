using System.Text;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Enrolment;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;

namespace OrderlyBeacon.Service.Protocols.Est;

/// <summary>Enrolment over Secure Transport (RFC 7030): cacerts, csrattrs, simpleenroll, simplereenroll, per profile.</summary>
internal static class EstEndpoints
{
    private const string Pkcs7Type = "application/pkcs7-mime";

    public static void MapEst(this WebApplication app)
    {
        var g = app.MapGroup("/.well-known/est/{profile}").ExcludeFromDescription();
        g.MapGet(
            "/cacerts",
            async (string profile, HttpContext context, Tickets tickets, ProfileCatalogue profiles, AuthorityRegistry registry) =>
            {
                profiles.Get(profile);
                // Who brings a ticket wants to know that it is us: the answer then carries the proof (RFC 7030 section 4.1.1 leaves open how a client comes to trust).
                if (Tickets.IsShown(context.Request))
                    await tickets.AcceptAsync(context);
                return Body(Pkcs7.WriteCertificates(registry.All.Select(x => x.Der)), Pkcs7Type);
            }
        );
        g.MapGet(
            "/csrattrs",
            (string profile, ProfileCatalogue profiles) =>
                Body(EstMessages.CsrAttributes(profiles.Get(profile).Keys), "application/csrattrs")
        );
        g.MapPost("/simpleenroll", (string profile, HttpContext context, EstDoor door) => RunAsync(context, door, profile, again: false))
            .InLane(Lanes.Enrolments);
        g.MapPost("/simplereenroll", (string profile, HttpContext context, EstDoor door) => RunAsync(context, door, profile, again: true))
            .InLane(Lanes.Enrolments);
    }

    private static IResult Body(byte[] der, string type) => new EncodedBody(EstMessages.ToBody(der), type);

    private static async Task RunAsync(HttpContext context, EstDoor door, string profile, bool again)
    {
        try
        {
            var body = await ReadBodyAsync(context);
            var outcome = again ? await door.AgainAsync(context, profile, body) : await door.FirstAsync(context, profile, body);
            // Certs-only with the issued certificate alone (RFC 7030 section 4.2.3).
            if (outcome is EnrolOutcome.Issued issued)
                await Body(Pkcs7.WriteCertificates([issued.Der]), Pkcs7Type + "; smime-type=certs-only").ExecuteAsync(context);
            else
                await WaitAsync(context, ((EnrolOutcome.Waits)outcome).Request);
        }
        catch (BeaconProblem p)
        {
            // EST clients are small: one line of text with the cure, and a challenge where credentials are wanted.
            context.Response.StatusCode = p.Code == ProblemCode.RequestRefused ? 403 : Problems.StatusOf(p.Code);
            if (context.Response.StatusCode == 401)
                context.Response.Headers.WWWAuthenticate = "Basic realm=\"Orderly Beacon\", charset=\"UTF-8\"";
            if (context.Response.StatusCode == 401 && context.RequestServices.GetRequiredService<Tickets>().AreTaken)
                Tickets.Challenge(context.Response);
            context.Response.ContentType = "text/plain; charset=utf-8";
            await context.Response.WriteAsync($"{p.Message} {p.Cure}\n");
        }
    }

    /// <summary>Something waits for a person: the client is told to ask again with the same CSR (RFC 7030 section 4.2.3).</summary>
    private static Task WaitAsync(HttpContext context, long request)
    {
        context.Response.StatusCode = 202;
        context.Response.Headers.RetryAfter = "300";
        context.Response.ContentType = "text/plain; charset=utf-8";
        return context.Response.WriteAsync($"Request {request} waits for somebody's approval. Ask again with the same CSR.\n");
    }

    private static async Task<byte[]> ReadBodyAsync(HttpContext context)
    {
        var type = context.Request.ContentType?.Split(';')[0].Trim();
        if (!string.Equals(type, "application/pkcs10", StringComparison.OrdinalIgnoreCase))
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"The content type is {type ?? "missing"}.",
                "Send the CSR as application/pkcs10."
            );
        var buffer = new byte[CertificationRequest.MaxBytes + 1];
        var length = 0;
        int read;
        while (length < buffer.Length && (read = await context.Request.Body.ReadAsync(buffer.AsMemory(length), context.RequestAborted)) > 0)
            length += read;
        return buffer[..length];
    }

    private sealed class EncodedBody(string body, string type) : IResult
    {
        public async Task ExecuteAsync(HttpContext context)
        {
            context.Response.ContentType = type;
            context.Response.Headers["Content-Transfer-Encoding"] = "base64";
            var bytes = Encoding.ASCII.GetBytes(body);
            context.Response.ContentLength = bytes.Length;
            await context.Response.Body.WriteAsync(bytes, context.RequestAborted);
        }
    }
}
