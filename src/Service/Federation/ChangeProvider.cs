using System.Net;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Federation;

/// <summary>What people decide about a provider: which certificate it signs with, that it goes on, that it goes back, and what they know of a partner.</summary>
public sealed class ChangeProvider(BeaconDb db, ProviderBook book, OrderDesk desk, WorkBell bell, Changes changes, TimeProvider clock)
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(60),
        LongestWait = TimeSpan.FromDays(366);
    private const int MostAddresses = 50,
        MostText = 500;

    /// <summary>What a call is about.</summary>
    private sealed record Opened(Provider Provider, Hosts.Host Host);

    private async Task<Opened> OpenAsync(int number, Operation operation, Caller caller, CancellationToken ct)
    {
        var provider =
            await db.Providers.FirstOrDefaultAsync(p => p.Id == number, ct)
            ?? throw new BeaconProblem(ProblemCode.NotFound, $"There is no provider {number}.", "See beacon federation list.");
        var host = await db.Hosts.SingleAsync(h => h.Id == provider.HostId, ct);
        host.ThrowIfGone();
        MayAct.ThrowUnless(operation, caller, MayAct.Of(host));
        return new(provider, host);
    }

    private async Task CommitAsync(WriteScope write, Provider p, Caller caller, JournalAction action, string detail, CancellationToken ct)
    {
        await db.Note(clock.GetUtcNow(), caller.Actor, action, p.Entity, detail);
        await write.CommitAsync(ct);
        book.Now(p.Id);
        changes.Tell("federation", p.Id.ToString());
    }

    /// <exception cref="BeaconProblem">The certificate is not on that host, was never issued, or has a kind of key that is not signed with.</exception>
    public async Task SignWithAsync(int number, SigningWish wish, Caller caller, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var (p, host) = await OpenAsync(number, Operation.SignWith, caller, ct);
        if (p.Also is not null && p.CertificateId is not null && !p.IsHeld)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"{p.Entity} is on its way from one certificate to the next.",
                $"Wait for its end, or take a step back first: beacon federation back {p.Id}."
            );
        if (wish.Certificate is not { Length: > 0 } name)
        {
            p.SignWith(null);
            p.Stands(FederationStep.Unmanaged);
            await CommitAsync(write, p, caller, JournalAction.FederationChosen, "nothing: it is left as it is", ct);
            return;
        }
        var certificate =
            await db.Certificates.FirstOrDefaultAsync(c => c.Name == name && c.HostId == host.Id, ct)
            ?? throw new BeaconProblem(
                ProblemCode.NotFound,
                $"{host.Name} has no certificate \"{name}\".",
                $"Request it there first: beacon request new --host {host.Name.Split('.')[0]} --profile federation-signing --key rsa-3072 --name NAME."
            );
        MayAct.ThrowUnless(Operation.SignWith, caller, MayAct.Of(certificate));
        if (!await db.Editions.AnyAsync(e => e.CertificateId == certificate.Id && e.State == EditionState.Current, ct))
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"\"{name}\" was not issued yet.",
                $"See how it stands: beacon cert show {name}."
            );
        if (!certificate.Key.StartsWith("rsa", StringComparison.OrdinalIgnoreCase))
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"\"{name}\" has a key of the kind {certificate.Key}: this provider signs with RSA alone.",
                "Request one with --key rsa-3072."
            );
        p.SignWith(certificate.Id);
        p.Stands(FederationStep.Publishing);
        p.TryAgain();
        await CommitAsync(write, p, caller, JournalAction.FederationChosen, $"\"{name}\"", ct);
    }

    /// <summary>What a step would change in the provider's files.</summary>
    public async Task<OrderInfo> PlanAsync(int number, FederationAct act, Caller caller, CancellationToken ct)
    {
        var (p, host) = await OpenAsync(number, Operation.PlanSigning, caller, ct);
        var (name, edition) = await EditionAsync(p, ct);
        var content = ProviderOrders.Of(OrderKind.Preview, p, act, name, edition.Serial) with { Of = OrderKind.Federate };
        var order = await desk.AskAsync(host, content, Patience, ct);
        return (await OrderDesk.InfosAsync(db, db.Orders.Where(o => o.Id == order.Id), ct)).Single();
    }

    private async Task<(string Name, Edition Edition)> EditionAsync(Provider p, CancellationToken ct)
    {
        var edition =
            p.CertificateId is { } id
            && await db.Editions.FirstOrDefaultAsync(e => e.CertificateId == id && e.State == EditionState.Current, ct) is { } current
                ? current
                : throw new BeaconProblem(
                    ProblemCode.WrongState,
                    $"{p.Entity} has no certificate of ours to sign with.",
                    $"Give it one: beacon federation sign-with {p.Id} CERTIFICATE."
                );
        return (await db.Certificates.Where(c => c.Id == edition.CertificateId).Select(c => c.Name).SingleAsync(ct), edition);
    }

    /// <summary>It goes on although not all partners are known to have learnt of it, or although a step failed or was taken back.</summary>
    public async Task GoOnAsync(int number, GoOnWish wish, Caller caller, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var (p, _) = await OpenAsync(number, Operation.GoOnSigning, caller, ct);
        var reason = Said(wish.Reason, "It needs a reason: partners that do not know the next certificate refuse what it signs.");
        var now = clock.GetUtcNow();
        if (wish.At is { } wanted && (wanted < now || wanted > now + LongestWait))
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "That date is past, or more than a year away.",
                "Give a date that is to come."
            );
        if (p.OrderId is not null || !p.IsHeld && !p.IsFailed && p.Step != FederationStep.Waiting)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"{p.Entity} does not wait for anybody.",
                $"See how it stands: beacon federation show {p.Id}."
            );
        if (p.IsFailed)
            p.TryAgain();
        // Who lets it go on after a step back has decided that; partners are waited for as before.
        p.GoOn(p.IsHeld || p.Step != FederationStep.Waiting ? null : wish.At ?? now);
        var when = wish.At is { } at ? $"on {at:yyyy-MM-dd HH:mm}Z, " : "";
        await CommitAsync(write, p, caller, JournalAction.FederationHurried, when + reason, ct);
    }

    /// <summary>One step back, and nothing more by itself.</summary>
    /// <returns>The order's number.</returns>
    public async Task<long> BackAsync(int number, BackWish wish, Caller caller, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var (p, host) = await OpenAsync(number, Operation.StepBackSigning, caller, ct);
        var reason = Said(wish.Reason, "It needs a reason.");
        var (name, edition) = await EditionAsync(p, ct);
        var isNew = p.Signs?.Thumbprint == edition.Thumbprint;
        if (p.OrderId is not null || p.Also is null || !isNew && p.Also.Thumbprint != edition.Thumbprint)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                p.OrderId is not null
                    ? $"A step of {p.Entity} is under way."
                    : $"{p.Entity} publishes one certificate alone: there is no step to take back.",
                p.OrderId is not null
                    ? "Wait for its end."
                    : "To sign with another one, give it another certificate: beacon federation sign-with."
            );
        var act = isNew ? FederationAct.Publish : FederationAct.Withdraw;
        var order = WorkOrder.Of(
            clock.GetUtcNow(),
            host.Id,
            ProviderOrders.Of(OrderKind.Federate, p, act, name, edition.Serial),
            null,
            null
        );
        db.Orders.Add(order);
        await db.SaveChangesAsync(ct);
        p.Hold();
        p.TryAgain();
        p.Ordered(FederationStep.Held, order.Id);
        await CommitAsync(write, p, caller, JournalAction.FederationBack, $"order {order.Id}: {reason}", ct);
        bell.Ring(host.Id);
        return order.Id;
    }

    public async Task KeepPartnerAsync(int number, PartnerWish wish, Caller caller, CancellationToken ct)
    {
        await using var write = await db.BeginWriteAsync(ct);
        var (p, _) = await OpenAsync(number, Operation.KeepPartner, caller, ct);
        var partner =
            await db.Partners.FirstOrDefaultAsync(x => x.ProviderId == p.Id && x.Entity == wish.Entity, ct)
            ?? throw new BeaconProblem(
                ProblemCode.NotFound,
                $"{p.Entity} has no partner {wish.Entity}.",
                $"See who they are: beacon federation show {p.Id}."
            );
        var said = new List<string>();
        if (wish.Addresses is { } addresses)
        {
            var read = addresses.Select(Address).Distinct().ToList();
            if (read.Count > MostAddresses)
                throw new BeaconProblem(
                    ProblemCode.TooLarge,
                    $"More than {MostAddresses} addresses are given.",
                    "Give those that fetch metadata."
                );
            var others = await db.Partners.AsNoTracking().Where(x => x.ProviderId == p.Id && x.Id != partner.Id).ToListAsync(ct);
            if (others.Find(o => o.Addresses.Intersect(read).Any()) is { } same)
                throw new BeaconProblem(
                    ProblemCode.AlreadyExists,
                    $"{same.Entity} comes from that address already: which of both has fetched could not be told apart.",
                    "Say by a word who knows the next certificate: --word."
                );
            partner.ComesFrom(read);
            if (p.Strangers.FirstOrDefault(f => read.Contains(f.Address)) is { } fetch)
            {
                partner.Fetched(fetch.At);
                p.FetchedBy([.. p.Strangers.Where(f => !read.Contains(f.Address))]);
            }
            said.Add($"comes from {string.Join(", ", read)}");
        }
        if (wish.Word is not null)
        {
            if (p.Also is null)
                throw new BeaconProblem(
                    ProblemCode.WrongState,
                    $"{p.Entity} publishes one certificate alone: there is nothing that a partner would have to learn now.",
                    "Say it when the next one is published."
                );
            partner.Said(caller.Name, Said(wish.Word, "It needs a word: how is it known that the partner has it?"), clock.GetUtcNow());
            said.Add($"knows what is published: {partner.Word}");
        }
        if (said.Count == 0)
            throw new BeaconProblem(ProblemCode.InputInvalid, "Nothing is said of the partner.", "Give addresses, or a word.");
        await CommitAsync(write, p, caller, JournalAction.FederationSaid, $"{partner.Entity} {string.Join("; ", said)}", ct);
    }

    private static string Address(string text) =>
        IPAddress.TryParse(text.Trim(), out var address)
            ? (address.IsIPv4MappedToIPv6 ? address.MapToIPv4() : address).ToString()
            : throw new BeaconProblem(ProblemCode.InputInvalid, $"\"{text}\" is no address.", "Write it as 192.0.2.7 or 2001:db8::7.");

    private static string Said(string? text, string missing) =>
        text?.Trim() is { Length: > 0 and <= MostText } said && !said.Any(char.IsControl)
            ? said
            : throw new BeaconProblem(ProblemCode.InputInvalid, missing, $"Say it in 1 to {MostText} characters.");
}
