using System.Text;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Storage;

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
            (string profile, ProfileCatalogue profiles, AuthorityRegistry registry) =>
            {
                profiles.Get(profile);
                return Body(Pkcs7.WriteCertificates(registry.All.Select(x => x.Der)), Pkcs7Type);
            }
        );
        g.MapGet(
            "/csrattrs",
            (string profile, ProfileCatalogue profiles) =>
                Body(EstMessages.CsrAttributes(profiles.Get(profile).Keys), "application/csrattrs")
        );
        g.MapPost("/simpleenroll", (string profile, HttpContext context, Enrol enrol) => RunAsync(context, enrol, profile, again: false));
        g.MapPost("/simplereenroll", (string profile, HttpContext context, Enrol enrol) => RunAsync(context, enrol, profile, again: true));
    }

    private static IResult Body(byte[] der, string type) => new EncodedBody(EstMessages.ToBody(der), type);

    private static async Task RunAsync(HttpContext context, Enrol enrol, string profile, bool again)
    {
        try
        {
            var body = await ReadBodyAsync(context);
            var der = again ? await enrol.AgainAsync(context, profile, body) : await enrol.FirstAsync(context, profile, body);
            // Certs-only with the issued certificate alone (RFC 7030 section 4.2.3).
            await Body(Pkcs7.WriteCertificates([der]), Pkcs7Type + "; smime-type=certs-only").ExecuteAsync(context);
        }
        catch (BeaconProblem p)
        {
            // EST clients are small: one line of text with the cure, and a challenge where credentials are wanted.
            if (p.Code == ProblemCode.WrongState && p.Slug.Length > 0 && context.Items.ContainsKey("retry"))
            {
                context.Response.StatusCode = 202;
                context.Response.Headers.RetryAfter = "300";
            }
            else
                context.Response.StatusCode = p.Code == ProblemCode.RequestRefused ? 403 : Problems.StatusOf(p.Code);
            if (context.Response.StatusCode == 401)
                context.Response.Headers.WWWAuthenticate = "Basic realm=\"Orderly Beacon\", charset=\"UTF-8\"";
            context.Response.ContentType = "text/plain; charset=utf-8";
            await context.Response.WriteAsync($"{p.Message} {p.Cure}\n");
        }
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

/// <summary>Decides and issues for EST clients: people with a password, hosts with a join code, holders of an edition with its key.</summary>
internal sealed class Enrol(
    BeaconDb db,
    SignInDesk desk,
    ClientCertificates clients,
    ProfileCatalogue profiles,
    DecideNames decide,
    IssueEdition issue,
    SubmitRequest submit,
    KnownNames known,
    Changes changes,
    TimeProvider clock
)
{
    public async Task<ReadOnlyMemory<byte>> FirstAsync(HttpContext context, string profileId, byte[] body)
    {
        var ct = context.RequestAborted;
        if (profileId == "agent")
            return await JoinAsync(context, body, ct);
        var caller = await CallerAsync(context, ct);
        var csr = CertificationRequest.Read(body).ThrowIfUnusable();
        var profile = profiles.GetFor(profileId, caller.Groups);
        profile.CheckKey(csr.PublicKey.Spec);
        if (csr.Names.Count == 0)
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                "The request has no alternative name; clients look nowhere else.",
                "Add the host names as alternative names."
            );
        var verdicts = await decide.RunAsync([.. csr.Names.Select(n => n.ToString())], profile, null, caller.Groups, [], ct);
        var overall = NameDecision.Overall(verdicts);
        switch (overall == Core.Profiles.Verdict.Granted && profile.Approvals > 0 ? Core.Profiles.Verdict.NeedsApproval : overall)
        {
            case Core.Profiles.Verdict.Refused:
                var refused = verdicts.First(v => v.Verdict == Core.Profiles.Verdict.Refused);
                throw new BeaconProblem(ProblemCode.RequestRefused, $"{refused.Name}: {refused.Evidence}", refused.Cure);
            case Core.Profiles.Verdict.NeedsApproval:
                return await WaitAsync(context, profileId, csr, caller, ct);
        }
        return await IssueAsync(profile, csr, csr.Names, 0, $"{csr.Names[0].Value}@{caller.Name}", caller.Actor, ct);
    }

    /// <summary>A new edition for the holder of an old one: same names, same profile (RFC 7030 section 4.2.2).</summary>
    public async Task<ReadOnlyMemory<byte>> AgainAsync(HttpContext context, string profileId, byte[] body)
    {
        var ct = context.RequestAborted;
        var client =
            await clients.FindAsync(context, ct)
            ?? throw new BeaconProblem(
                ProblemCode.NotSignedIn,
                "Re-enrolment needs the certificate it renews as client certificate, valid and not revoked.",
                "Connect with it, or enrol anew with simpleenroll."
            );
        if (client.Edition.Profile != profileId)
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"The client certificate was issued under \"{client.Edition.Profile}\", not \"{profileId}\".",
                "Use the address of its own profile."
            );
        if (profileId == "agent" && client.Host is null)
            throw new BeaconProblem(ProblemCode.HostGone, "This agent's host was removed.", "Invite it again.");
        var csr = CertificationRequest.Read(body).ThrowIfUnusable();
        // Who has an edition gets the next one, even when the profile is not offered any more.
        var profile = profiles.Get(profileId);
        profile.CheckKey(csr.PublicKey.Spec);
        var old = Core.Issuing.X509.Read(client.Edition.Der);
        if (csr.Names.Except(old.Names).Any() || old.Names.Except(csr.Names).Any())
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                "The names differ from those of the certificate that is renewed.",
                "Ask for the same names, or enrol anew."
            );
        var certificate = await db.Certificates.AsNoTracking().SingleAsync(c => c.Id == client.Edition.CertificateId, ct);
        // Zones and groups may have changed since: what would not be granted today is not prolonged.
        if (profileId != "agent" && certificate.HostId is null)
        {
            var owner = await db.People.AsNoTracking().FirstOrDefaultAsync(p => p.Name == certificate.Owner, ct);
            var verdicts = await decide.RunAsync(
                [.. csr.Names.Select(n => n.ToString())],
                profile,
                null,
                owner?.GroupList ?? [],
                Shapes.Strings(certificate.ApprovedJson),
                ct
            );
            if (verdicts.FirstOrDefault(v => v.Verdict != Core.Profiles.Verdict.Granted) is { } no)
                throw new BeaconProblem(ProblemCode.RequestRefused, $"{no.Name}: {no.Evidence}", no.Cure);
        }
        else if (profileId != "agent")
            throw new BeaconProblem(ProblemCode.NotAllowed, "This certificate is renewed by its host's agent.", "Nothing to do.");
        var der = await IssueAsync(
            profile,
            csr,
            old.Names,
            certificate.Id,
            certificate.Name,
            client.Host is { } h ? "agent:" + h : certificate.Owner,
            ct,
            old.Subject
        );
        if (client.Host is { } host)
            await NoteAgentAsync(host, Core.Issuing.X509.Read(der).NotAfter, ct);
        return der;
    }

    private async Task<ReadOnlyMemory<byte>> JoinAsync(HttpContext context, byte[] body, CancellationToken ct)
    {
        var (name, code) =
            Basic(context)
            ?? throw new BeaconProblem(
                ProblemCode.JoinCodeRefused,
                "Joining needs the host's name and its join code as HTTP credentials.",
                "Make a code: beacon host invite NAME."
            );
        var secret = code.Split('.')[0];
        var csr = CertificationRequest.Read(body).ThrowIfUnusable();
        var profile = profiles.Get("agent");
        profile.CheckKey(csr.PublicKey.Spec);
        var now = clock.GetUtcNow();
        Hosts.Host host;
        int certificateId;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            host =
                await db.Hosts.FirstOrDefaultAsync(h => h.Name == name, ct)
                ?? throw new BeaconProblem(
                    ProblemCode.JoinCodeRefused,
                    $"The join code for {name} is not one that was made.",
                    $"Make one: beacon host invite {name}."
                );
            host.CheckJoinCode(InviteHost.HashOf(secret), now);
            if (csr.Names.Count != 1 || csr.Names[0].Value != host.Name)
                throw new BeaconProblem(
                    ProblemCode.RequestRefused,
                    $"An agent's certificate has its host's name {host.Name} alone.",
                    "Make the CSR with that name."
                );
            var certificateName = $"agent:{host.Name}";
            var certificate = await db.Certificates.FirstOrDefaultAsync(c => c.Name == certificateName, ct);
            if (certificate is null)
                db.Certificates.Add(certificate = Certificate.Of(certificateName, host.Id, null));
            certificate.Wish(
                "agent",
                "CN=" + host.Name,
                Shapes.Json([host.Name]),
                csr.PublicKey.Spec.ToString(),
                null,
                "agent:" + host.Name,
                "[]"
            );
            // The code is used up before the edition leaves: a crash here costs a new code, never a second agent.
            host.Join(now + profile.Life);
            await db.Note(now, "agent:" + host.Name, "host.joined", host.Name, $"from {context.Connection.RemoteIpAddress}");
            await write.CommitAsync(ct);
            certificateId = certificate.Id;
        }
        clients.Forget();
        known.Changed();
        var der = await IssueAsync(profile, csr, csr.Names, certificateId, $"agent:{host.Name}", "agent:" + host.Name, ct);
        changes.Tell("host", host.Name);
        return der;
    }

    private async Task<ReadOnlyMemory<byte>> IssueAsync(
        Profile profile,
        CertificationRequest csr,
        IReadOnlyList<AlternativeName> names,
        int certificateId,
        string certificateName,
        string actor,
        CancellationToken ct,
        DistinguishedName? subject = null
    )
    {
        var recorded = await issue.RunAsync(
            new(
                profile,
                subject ?? (names[0].Value.Length <= 64 ? DistinguishedName.ForCommonName(names[0].Value) : DistinguishedName.Empty),
                names,
                csr.PublicKey,
                null,
                certificateId,
                certificateName,
                Shapes.Json(names.Select(n => n.ToString())),
                null,
                EditionState.Current,
                actor,
                "EST"
            ),
            ct
        );
        changes.Tell("certificate", certificateName);
        return recorded.Der;
    }

    /// <summary>Something waits for a person: the client is told to ask again with the same CSR (RFC 7030 section 4.2.3).</summary>
    private async Task<ReadOnlyMemory<byte>> WaitAsync(
        HttpContext context,
        string profileId,
        CertificationRequest csr,
        Caller caller,
        CancellationToken ct
    )
    {
        var der = csr.Der.ToArray();
        var earlier = await db
            .Requests.AsNoTracking()
            .Where(r => r.Cause == "est" && r.Requester == caller.Name && r.Csr == der)
            .OrderByDescending(r => r.Id)
            .FirstOrDefaultAsync(ct);
        if (earlier?.State == RequestState.Issued)
            return (await db.Editions.AsNoTracking().SingleAsync(e => e.RequestId == earlier.Id, ct)).Der;
        if (earlier?.State == RequestState.Refused)
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                $"Request {earlier.Id} was refused: {earlier.Reason}",
                "Correct it and enrol again with a new CSR."
            );
        var id =
            earlier?.Id
            ?? await submit.RunAsync(
                new(
                    null,
                    profileId,
                    null,
                    null,
                    null,
                    null,
                    null,
                    Armor.Write(Armor.CertificateRequest, csr.Der.Span),
                    null,
                    null,
                    null,
                    null
                ),
                caller,
                "est",
                ct
            );
        context.Items["retry"] = true;
        throw new BeaconProblem(ProblemCode.WrongState, $"Request {id} waits for somebody's approval.", "Ask again with the same CSR.");
    }

    private async Task NoteAgentAsync(string hostName, DateTimeOffset ends, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        (await db.Hosts.SingleAsync(h => h.Name == hostName, ct)).NoteAgentCertificate(ends);
        await write.CommitAsync(ct);
    }

    private async Task<Caller> CallerAsync(HttpContext context, CancellationToken ct)
    {
        var from = context.Connection.RemoteIpAddress?.ToString();
        if (Basic(context) is { } basic)
            return await desk.CheckBasicAsync(basic.Name, basic.Password, ct) with { From = from };
        if (BeaconAuthentication.Token(context.Request) is { } token && await desk.CheckTokenAsync(token, ct) is { } caller)
            return caller with { From = from };
        throw new BeaconProblem(
            ProblemCode.NotSignedIn,
            "Enrolment needs credentials.",
            "Send your name and password by HTTP Basic, or a token."
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
