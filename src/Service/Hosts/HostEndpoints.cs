using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Enrolment;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Hosts;

/// <summary>Makes join codes: 100 random bits, then the root's SHA-256, so that the agent knows whom to trust before its first call.</summary>
public sealed class InviteHost(
    BeaconDb db,
    AuthorityRegistry registry,
    Owners owners,
    BeaconOptions options,
    TimeProvider clock,
    Changes changes
)
{
    private static readonly TimeSpan CodeLife = TimeSpan.FromHours(24);
    private const string Letters = "abcdefghjkmnpqrstuvwxyz23456789";

    /// <param name="owner">Who may order work on it; null leaves it as it is, at first with the administrators.</param>
    public async Task<HostInvitation> RunAsync(string name, string? owner, Caller caller, CancellationToken ct)
    {
        var dns = DnsName.Parse(name);
        if (owner is not null)
            await owners.CheckAsync(owner, ct);
        if (dns.IsWildcard)
            throw new BeaconProblem(ProblemCode.NameMalformed, "A host's name has no star.", "Give the server's full name.");
        var secret = string.Join('-', Enumerable.Range(0, 4).Select(_ => RandomNumberGenerator.GetString(Letters, 5)));
        var now = clock.GetUtcNow();
        await using var write = await db.BeginWriteAsync(ct);
        var host = await db.Hosts.FirstOrDefaultAsync(h => h.Name == dns.Ascii, ct);
        if (host is null && !dns.Ascii.Contains('.'))
            await ThrowIfShortAsync(dns.Ascii, ct);
        if (host is null)
            db.Hosts.Add(host = Host.Invite(dns.Ascii, owner ?? Host.DefaultOwner));
        else if (owner is not null)
            host.GiveTo(owner);
        host.NewJoinCode(HashOf(secret), now + CodeLife);
        await db.Note(now, caller.Actor, JournalAction.HostInvited, dns.Ascii, $"code good until {now + CodeLife:yyyy-MM-dd HH:mm}Z");
        await write.CommitAsync(ct);
        changes.Tell("host", dns.Ascii);
        var code = secret + "." + registry.Root.Thumbprint.Hex;
        return new(dns.Ascii, code, now + CodeLife, $"beacon-agent join --service {options.Url} --host {dns.Ascii} --code-file -");
    }

    /// <summary>People call hosts by the first part of their names: another one of only that name would be taken for it.</summary>
    private async Task ThrowIfShortAsync(string name, CancellationToken ct)
    {
        var here = await FindHost
            .Called(db.Hosts.AsNoTracking(), name)
            .Where(h => h.State != HostState.Removed)
            .Select(h => h.Name)
            .Order()
            .FirstOrDefaultAsync(ct);
        if (here is not null)
            throw new BeaconProblem(
                ProblemCode.AlreadyExists,
                $"{here} is here already, and is called {name} for short.",
                $"Give the full name of the host that is meant: beacon host invite {here}, or another one's."
            );
    }

    public static string HashOf(string secret) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(secret)));
}

/// <summary>Takes a host out: its agent's editions are revoked, open orders cancelled, its services forgotten.</summary>
public sealed class RemoveHost(
    BeaconDb db,
    AnnounceRevocations announce,
    Presence presence,
    TimeProvider clock,
    Changes changes,
    ReportParts parts
)
{
    public async Task RunAsync(string name, Caller caller, CancellationToken ct)
    {
        var revoked = new List<(string, string)>();
        int removed;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var host = await db.Hosts.FirstOrDefaultAsync(h => h.Name == name, ct) ?? throw await NotThere.HostAsync(db, name, ct);
            host.ThrowIfGone();
            if (await db.Hosts.FirstOrDefaultAsync(h => h.ViaHostId == host.Id && h.State != HostState.Removed, ct) is { } device)
                throw new BeaconProblem(
                    ProblemCode.WrongState,
                    $"{device.Name} is reached by the agent of {name}: nobody would renew it.",
                    $"Have another host's agent reach it (beacon device add {device.Name} --via HOST), or remove it first."
                );
            var now = clock.GetUtcNow();
            if (host is { Device: not null, ViaHostId: { } via })
                db.Orders.Add(WorkOrder.Of(now, via, KeepDevice.Content(host.Name, null), null, null));
            host.Remove();
            removed = host.Id;
            foreach (
                var o in await db
                    .Orders.Where(o => o.HostId == host.Id && (o.State == OrderState.Queued || o.State == OrderState.Taken))
                    .ToListAsync(ct)
            )
                o.Cancel(now);
            var agent = Actor.Agent(host.Name).ToString();
            var ids = await db.Certificates.Where(c => c.HostId == host.Id && c.Owner == agent).Select(c => c.Id).ToListAsync(ct);
            foreach (
                var e in await db
                    .Editions.Where(e => ids.Contains(e.CertificateId) && e.Profile == "agent" && e.RevokedAt == null && e.NotAfter > now)
                    .ToListAsync(ct)
            )
            {
                e.Revoke(now, RevocationReason.CessationOfOperation);
                revoked.Add(($"agent:{name}", e.Serial));
            }
            foreach (var c in await db.Certificates.Where(c => c.HostId == host.Id).ToListAsync(ct))
                c.Waiting();
            db.Bindings.RemoveRange(db.Bindings.Where(b => db.Services.Any(s => s.HostId == host.Id && s.Id == b.ServiceId)));
            db.Services.RemoveRange(db.Services.Where(s => s.HostId == host.Id));
            db.StoredEntries.RemoveRange(db.StoredEntries.Where(e => e.HostId == host.Id));
            await parts.Trust.ForgetAsync(host.Id, ct);
            await parts.Providers.ForgetAsync(host, now, ct);
            await db.Note(
                now,
                caller.Actor,
                JournalAction.HostRemoved,
                name,
                "its agent's certificates are revoked; what its servers serve stays until somebody changes it"
            );
            await write.CommitAsync(ct);
        }
        presence.Remove(removed);
        await announce.RunAsync(revoked, caller.Actor, $"host {name} removed", wasHeld: false, ct);
        changes.Tell("host", name);
    }
}

internal static class HostEndpoints
{
    public static void MapHosts(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("/hosts").WithTags("Hosts");
        g.MapGet(
                "",
                async ([AsParameters] HostList list, HostQueries q, Offers offers, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(offers.To(await q.PageAsync(list, ct), h => offers.To(caller, h)))
            )
            .Is(Operation.ListHosts);

        g.MapGet(
                "/{name}",
                async (
                    string name,
                    BeaconDb db,
                    OrderDesk desk,
                    ServiceQueries services,
                    Offers offers,
                    Caller caller,
                    CancellationToken ct
                ) =>
                {
                    var host = await FindHost.ByNameAsync(db, name, ct);
                    var list = await services.OfHostAsync(host.Id, ct);
                    return TypedResults.Ok(
                        new HostDetail(
                            offers.To(caller, HostQueries.Info(host, desk, list.Count, await HostQueries.ViaAsync(db, [host], ct))),
                            [.. list.Select(s => offers.To(caller, s))],
                            JsonSerializer.Deserialize(host.EntriesJson, BeaconJson.Default.ListStoreEntryInfo)!
                        )
                        {
                            SealKey = host.SealKey,
                            Authorities = JsonSerializer.Deserialize(host.AuthoritiesJson, BeaconJson.Default.ListStoreAuthorityInfo)!,
                        }
                    );
                }
            )
            .Is(Operation.GetHost);

        MapKeeping(g);
    }

    private static void MapKeeping(RouteGroupBuilder g)
    {
        g.MapPost(
                "",
                async (NewHost body, InviteHost invite, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(await invite.RunAsync(body.Name, body.Owner, caller, ct))
            )
            .Is(Operation.InviteHost)
            .AnswersSecret();
        g.MapPut(
                "/{name}/owner",
                async (string name, NewOwner body, Owners owners, Caller caller, CancellationToken ct) =>
                {
                    await owners.GiveHostAsync(name, body.Owner, caller, ct);
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.GiveHost);
        g.MapPost(
                "/{name}/meetings",
                async (string name, MeetWish body, MeetAgent meet, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(new Told([await meet.RunAsync(name, body.Address, caller, ct)]))
            )
            .Is(Operation.MeetHost);

        g.MapPut(
                "/{name}/device",
                async (string name, DeviceWish body, KeepDevice keep, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(new OrderAccepted(await keep.RunAsync(name, body, caller, ct)))
            )
            .Is(Operation.KeepDevice);
        g.MapDelete(
                "/{name}",
                async (string name, RemoveHost remove, BeaconDb db, Caller caller, CancellationToken ct) =>
                {
                    await remove.RunAsync((await FindHost.ByNameAsync(db, name, ct)).Name, caller, ct);
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.RemoveHost);
    }
}
