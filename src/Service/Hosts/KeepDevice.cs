using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Enrolment;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Hosts;

/// <summary>Says that a device is there and which host's agent reaches it. How to get into it is sealed to that agent: the service does not know.</summary>
public sealed class KeepDevice(BeaconDb db, OrderDesk desk, Rights.Owners owners, WorkBell bell, Changes changes, TimeProvider clock)
{
    private const string Appliance = "appliance";
    private const int LongestKind = 40;

    /// <param name="sealedAccess">Null has the agent forget it.</param>
    public static Order Content(string device, string? sealedAccess) =>
        new(0, OrderKind.KeepDevice, null, null, null, null, null, null, null, null, null, null) { Device = device, Sealed = sealedAccess };

    /// <returns>The order by which its agent tries to get in.</returns>
    public async Task<long> RunAsync(string name, DeviceWish wish, Caller caller, CancellationToken ct)
    {
        var dns = DnsName.Parse(name);
        if (dns.IsWildcard || !dns.Ascii.Contains('.'))
            throw Bad($"\"{name}\" is no full name.", "Give the device's full name, as clients use it.");
        var address = AddressOf(wish);
        var via = await FindHost.ByNameAsync(db, wish.Via, ct);
        MayAct.ThrowUnless(Operation.KeepDevice, caller, MayAct.Of(via));
        if (via.Device is not null)
            throw Bad($"{via.Name} is a device itself.", "Give the host whose agent reaches it.");
        desk.ThrowIfAway(via);
        if (wish.Owner is { } owner)
            await owners.CheckAsync(owner, ct);
        long order;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var now = clock.GetUtcNow();
            var row = await db.Hosts.FirstOrDefaultAsync(h => h.Name == dns.Ascii, ct);
            if (row is { Device: null, State: not HostState.Removed })
                throw new BeaconProblem(
                    ProblemCode.AlreadyExists,
                    $"{dns.Ascii} is a host with an agent of its own, or is invited as one.",
                    $"Remove it first: beacon host remove {dns.Ascii}."
                );
            if (row is { State: not HostState.Removed })
                MayAct.ThrowUnless(Operation.KeepDevice, caller, MayAct.Of(row));
            if (row is null)
                db.Hosts.Add(row = Host.OfDevice(dns.Ascii, via.Owner));
            row.ReachedBy(via.Id, wish.Kind, address.GetLeftPart(UriPartial.Authority), wish.Owner ?? row.Owner);
            var placed = WorkOrder.Of(now, via.Id, Content(dns.Ascii, wish.Sealed), null, null);
            db.Orders.Add(placed);
            await db.Note(
                now,
                caller.Actor,
                JournalAction.DeviceKept,
                dns.Ascii,
                $"{wish.Kind} at {row.DeviceAddress}, by the agent of {via.Name}"
            );
            await write.CommitAsync(ct);
            order = placed.Id;
        }
        bell.Ring(via.Id);
        changes.Tell("host", dns.Ascii);
        return order;
    }

    private static Uri AddressOf(DeviceWish wish)
    {
        if (
            wish.Kind is not { Length: > 0 and <= LongestKind }
            || !wish.Kind.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c == '-')
        )
            throw Bad(
                $"\"{wish.Kind}\" is no kind of device.",
                $"Use {Appliance}, or a kind with a shell that the agent of {wish.Via} knows."
            );
        // Which kinds with a shell there are is known to the agent alone: what they say is run on devices.
        var scheme = wish.Kind == Appliance ? "https" : "ssh";
        if (!Uri.TryCreate(wish.Address, UriKind.Absolute, out var address) || address.Scheme != scheme)
            throw Bad(
                $"\"{wish.Address}\" is no address of a device of the kind {wish.Kind}.",
                $"Write it as {(scheme == "ssh" ? "ssh://ACCOUNT@HOST:PORT" : "https://HOST:PORT")}."
            );
        // What is in an address is shown in lists.
        if (address.UserInfo.Contains(':', StringComparison.Ordinal))
            throw Bad("The address has a password in it.", "Leave it out: how the agent gets in is sealed to it.");
        return address;
    }

    private static BeaconProblem Bad(string what, string cure) => new(ProblemCode.InputInvalid, what, cure);
}
