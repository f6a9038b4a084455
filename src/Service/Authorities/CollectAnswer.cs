using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>Looks whether a parent has answered, and installs the answer.</summary>
public sealed class CollectAnswer(BeaconDb db, AuthorityRegistry registry, InstallAnswer install, TimeProvider clock, Changes changes)
{
    public async Task RunAsync(CancellationToken ct)
    {
        if (registry.Waiting is null)
            return;
        foreach (var asked in await db.ParentRequests.AsNoTracking().Where(p => p.Open).ToListAsync(ct))
        {
            try
            {
                using var http = AskParent.Client(new Uri(asked.Url), asked.Root);
                var answer = await AskParent.SendAsync(
                    http,
                    HttpMethod.Get,
                    $"/api/v1/subordinates/{asked.Number}?key={asked.Fingerprint}",
                    null,
                    BeaconJson.Default.String,
                    BeaconJson.Default.SubordinateAnswer,
                    null,
                    ct
                );
                if (answer.State == RequestState.Issued)
                    await install.RunAsync(Authority.IssuingSlug, answer.Files.Select(Convert.FromBase64String), Actor.Parent, ct);
                await SayAsync(
                    asked,
                    answer.State switch
                    {
                        RequestState.Issued => "answered",
                        RequestState.Refused => "refused: " + answer.Reason,
                        RequestState.Withdrawn => "withdrawn there",
                        RequestState.WaitingForApproval => "waiting for approval",
                        _ => "approved; the parent's own key cannot be used now",
                    },
                    answer.State is not (RequestState.Issued or RequestState.Refused or RequestState.Withdrawn),
                    ct
                );
            }
            // It stays open: what is wrong may be mended there or here.
            catch (BeaconProblem p)
            {
                await SayAsync(asked, p.Message, open: true, ct);
            }
        }
    }

    private async Task SayAsync(ParentRequest asked, string says, bool open, CancellationToken ct)
    {
        if (asked.Says == says && asked.Open == open)
            return;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            (await db.ParentRequests.SingleAsync(p => p.Id == asked.Id, ct)).Say(says, open);
            await db.Note(
                clock.GetUtcNow(),
                Actor.System,
                JournalAction.AuthorityParentSaid,
                Authority.IssuingSlug,
                $"request {asked.Number} at {asked.Url}: {says}"
            );
            await write.CommitAsync(ct);
        }
        changes.Tell("authority", Authority.IssuingSlug);
    }
}
