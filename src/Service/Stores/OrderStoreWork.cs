using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Stores;

/// <summary>Orders what is done with the entries of a host's store. What is secret in it is sealed to the host's agent, or by it to who asked: nothing here can read it.</summary>
public sealed class OrderStoreWork(BeaconDb db, OrderDesk desk, ProfileCatalogue profiles)
{
    private const int MostSealed = 6 << 20,
        MostOpen = 8;
    private static readonly TimeSpan ExportPatience = TimeSpan.FromSeconds(30);

    public async Task<long> ImportAsync(string hostName, ImportWish wish, Caller caller, CancellationToken ct)
    {
        var host = await HostAsync(hostName, Operation.ImportToStore, caller, ct);
        if (string.IsNullOrEmpty(wish.Sealed) || wish.Sealed.Length > MostSealed)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "Nothing sealed was sent, or it is over 4 MiB.",
                "Send the certificate files alone, sealed to the host's key."
            );
        var open = await db.Orders.CountAsync(
            o => o.HostId == host.Id && o.Kind == OrderKind.Store && (o.State == OrderState.Queued || o.State == OrderState.Taken),
            ct
        );
        if (open >= MostOpen)
            throw new BeaconProblem(
                ProblemCode.TooBusy,
                $"{open} orders about the store of {host.Name} wait already.",
                "Wait until its agent has done them."
            );
        var given = string.IsNullOrWhiteSpace(wish.Certificate) ? null : CertificateNaming.Given(wish.Certificate, caller.Name);
        if (given is { } name && await db.Certificates.AnyAsync(c => c.Name == name && c.HostId != null && c.HostId != host.Id, ct))
            throw new BeaconProblem(
                ProblemCode.AlreadyExists,
                $"There is a certificate named \"{name}\" elsewhere already.",
                "Give this one a name of its own (client: --as NAME)."
            );
        return await PlaceAsync(
            host,
            new(StoreAct.Import, Label: wish.Label, Sealed: wish.Sealed),
            given,
            new(caller.Actor, JournalAction.StoreImported, host.Name),
            ct
        );
    }

    /// <summary>An act on one entry that gives nothing out.</summary>
    public async Task<long> ActAsync(
        string hostName,
        string thumbprint,
        StoreAct act,
        string? label,
        Operation operation,
        JournalAction action,
        Caller caller,
        CancellationToken ct
    )
    {
        var host = await HostAsync(hostName, operation, caller, ct);
        var entry = await EntryAsync(host, thumbprint, ct);
        await ThrowIfNotTheirsAsync(entry, host, operation, caller, ct);
        if (act is StoreAct.Archive or StoreAct.Remove && entry.InUse && await BoundToAsync(entry, host, ct) is { Count: > 0 } services)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"{string.Join(", ", services)} on {host.Name} serve{(services.Count == 1 ? "s" : "")} it: without it {(services.Count == 1 ? "it" : "they")} would not start again.",
                $"Bind another certificate first, or put it back as it was: beacon unbind {ShortName(host)}/{services[0]}."
            );
        return await PlaceAsync(
            host,
            new(act, entry.Thumbprint, label),
            entry.Certificate,
            new(caller.Actor, action, $"{host.Name}: {entry.Certificate}{(label is null ? "" : $", \"{label}\"")}"),
            ct
        );
    }

    public async Task<Exported> ExportAsync(
        string hostName,
        string thumbprint,
        ExportWish wish,
        bool withKey,
        Caller caller,
        CancellationToken ct
    )
    {
        var operation = withKey ? Operation.ExportKey : Operation.ExportEntry;
        var host = await HostAsync(hostName, operation, caller, ct);
        var entry = await EntryAsync(host, thumbprint, ct);
        await ThrowIfNotTheirsAsync(entry, host, operation, caller, ct);
        if (withKey)
            await ThrowUnlessReleasedAsync(entry, caller, ct);
        if (Sealing.KeyBytes != KeyLength(wish.ReplyTo))
            throw new BeaconProblem(ProblemCode.InputInvalid, "There is no key to seal the answer to.", "Send one as replyTo.");
        var order = await desk.AskAsync(
            host,
            Content(new(StoreAct.Export, entry.Thumbprint, null, wish.Form, withKey, wish.Sealed, wish.ReplyTo), entry.Certificate),
            ExportPatience,
            ct,
            new(
                caller.Actor,
                withKey ? JournalAction.StoreKeyReleased : JournalAction.StoreExported,
                $"{host.Name}: {entry.Certificate}, serial {entry.Serial}, as {BeaconProblem.SlugOf(wish.Form)}"
            )
        );
        var given = order.Result?.Sealed;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            (await db.Orders.SingleAsync(o => o.Id == order.Id, ct)).ForgetGivenOut();
            await write.CommitAsync(ct);
        }
        return new(given ?? throw new BeaconProblem(ProblemCode.DataDamaged, "The agent gave nothing.", "Try again."));
    }

    private static int KeyLength(string? base64)
    {
        var bytes = new byte[128];
        return Convert.TryFromBase64String(base64 ?? "", bytes, out var length) ? length : 0;
    }

    /// <summary>The agent knows whether the key may leave; who may take it, the profile says as it is now.</summary>
    private async Task ThrowUnlessReleasedAsync(StoredEntry entry, Caller caller, CancellationToken ct)
    {
        if (!entry.Releasable)
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"The key of \"{entry.Certificate}\" stays on its host: it was not made as one that may leave it.",
                "Request it anew with a profile whose keys may be released; keys that exist are never made so afterwards."
            );
        var profile = await db
            .Editions.AsNoTracking()
            .Where(e => e.Thumbprint == entry.Thumbprint)
            .Select(e => e.Profile)
            .FirstOrDefaultAsync(ct);
        if (profile is null or Certificate.Brought)
        {
            // Signed outside for a request of ours, its profile stands with the certificate; what was brought with its key is its host's owner's.
            profile = await db
                .Certificates.AsNoTracking()
                .Where(c => c.Name == entry.Certificate && c.Outside != null)
                .Select(c => c.Profile)
                .FirstOrDefaultAsync(ct);
            if (profile is null)
                return;
        }
        var groups = profiles.Get(profile).ReleaseTo;
        if (!caller.Groups.Any(groups.Contains))
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                groups.Count == 0
                    ? $"The profile \"{profile}\" releases keys to nobody any more."
                    : $"The profile \"{profile}\" releases keys to {string.Join(", ", groups)}, and you are in none of these.",
                "Ask one of them; or have an authority keeper change the profile."
            );
    }

    private async Task<Hosts.Host> HostAsync(string name, Operation operation, Caller caller, CancellationToken ct)
    {
        var host = await FindHost.ByNameAsync(db, name, ct);
        MayAct.ThrowUnless(operation, caller, MayAct.Of(host));
        desk.ThrowIfAway(host);
        return host;
    }

    private async Task<StoredEntry> EntryAsync(Hosts.Host host, string thumbprint, CancellationToken ct)
    {
        var text = thumbprint.Replace(":", "").ToLowerInvariant();
        return await db
                .StoredEntries.AsNoTracking()
                .FirstOrDefaultAsync(e => e.HostId == host.Id && (e.Thumbprint == text || e.Serial == text), ct)
            ?? throw new BeaconProblem(
                ProblemCode.NotFound,
                $"No entry of the store of {host.Name} has the fingerprint or serial {thumbprint}.",
                $"See beacon store list --host {ShortName(host)}."
            );
    }

    /// <summary>A host's keeper does not take what somebody else has on it.</summary>
    private async Task ThrowIfNotTheirsAsync(StoredEntry entry, Hosts.Host host, Operation operation, Caller caller, CancellationToken ct)
    {
        if (
            await db.Certificates.AsNoTracking().FirstOrDefaultAsync(c => c.Name == entry.Certificate && c.HostId == host.Id, ct) is { } row
        )
            MayAct.ThrowUnless(operation, caller, MayAct.Of(row));
    }

    private async Task<List<string>> BoundToAsync(StoredEntry entry, Hosts.Host host, CancellationToken ct) =>
        await (
            from c in db.Certificates
            where c.Name == entry.Certificate && c.HostId == host.Id
            join b in db.Bindings on c.Id equals b.CertificateId
            join s in db.Services on b.ServiceId equals s.Id
            orderby s.Name
            select s.Name
        ).ToListAsync(ct);

    private async Task<long> PlaceAsync(
        Hosts.Host host,
        StoreOrder wish,
        string? certificate,
        OrderDesk.Noted noted,
        CancellationToken ct
    ) => (await desk.PlaceAsync(host, Content(wish, certificate), noted, ct)).Id;

    private static Order Content(StoreOrder wish, string? certificate) =>
        new(0, OrderKind.Store, certificate, null, null, null, null, null, null, null, null, null) { Store = wish };

    private static string ShortName(Hosts.Host host) => host.Name.Split('.')[0];
}
