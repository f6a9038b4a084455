using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Rights;

/// <summary>Gives hosts and certificates to other owners.</summary>
public sealed class Owners(BeaconDb db, PeopleBook people, Changes changes, TimeProvider clock)
{
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/> when nobody could be meant.</exception>
    public async Task CheckAsync(string owner, CancellationToken ct)
    {
        var group = owner.StartsWith(Thing.GroupPrefix, StringComparison.Ordinal) ? owner[Thing.GroupPrefix.Length..] : null;
        var isGood = group is null ? await people.KnowsAsync(owner, ct) : IsGroup(group);
        if (!isGood)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"\"{owner}\" is nobody who could own it.",
                "Give a person's sign-in name, or group:NAME; a group of the directory is group:directory:NAME."
            );
    }

    /// <summary>The directory's groups are called as people there like, in small letters here.</summary>
    private static bool IsGroup(string group) =>
        group.StartsWith(Who.DirectoryPrefix, StringComparison.Ordinal)
            ? group.Length > Who.DirectoryPrefix.Length
                && group.Length <= 128
                && !group.Any(c => char.IsControl(c) || c is ',' or ';' or '=')
                && group == group.ToLowerInvariant()
            : group.Length is > 0 and <= 64 && group.All(c => char.IsAsciiLetterOrDigit(c) || c is '.' or '-' or '_');

    public async Task GiveHostAsync(string name, string owner, Caller caller, CancellationToken ct)
    {
        await CheckAsync(owner, ct);
        var found = await FindHost.ByNameAsync(db, name, ct);
        found.ThrowIfGone();
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var host = await db.Hosts.SingleAsync(h => h.Id == found.Id, ct);
            var before = host.Owner;
            host.GiveTo(owner);
            await db.Note(clock.GetUtcNow(), caller.Actor, JournalAction.HostGiven, host.Name, $"{before} → {owner}");
            await write.CommitAsync(ct);
        }
        changes.Tell("host", found.Name);
    }

    public async Task GiveCertificateAsync(string name, string owner, Caller caller, CancellationToken ct)
    {
        await CheckAsync(owner, ct);
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var certificate =
                await db.Certificates.FirstOrDefaultAsync(c => c.Name == name, ct) ?? throw await NotThere.CertificateAsync(db, name, ct);
            if (MayAct.Of(certificate).IsSystem)
                throw new BeaconProblem(ProblemCode.NotAllowed, $"\"{name}\" is the system's own.", "Nothing to do.");
            var before = certificate.Owner;
            certificate.GiveTo(owner);
            await db.Note(clock.GetUtcNow(), caller.Actor, JournalAction.CertificateGiven, name, $"{before} → {owner}");
            await write.CommitAsync(ct);
        }
        changes.Tell("certificate", name);
    }
}
