using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.People;

namespace OrderlyBeacon.Service.Revocations;

/// <summary>Whoever keeps something that a revocation changes.</summary>
public interface IHearsOfRevocations
{
    /// <summary>An edition was revoked, put on hold or released.</summary>
    void Revoked(string serial);
}

/// <summary>After a change of states is committed: nothing that was kept may say otherwise any more, and the lists say it.</summary>
public sealed class AnnounceRevocations(
    PublishCrl publish,
    RevocationBook book,
    IEnumerable<IHearsOfRevocations> concerned,
    ClientCertificates clients,
    Hosts.Presence presence,
    Notices.Changes changes
)
{
    /// <param name="wasHeld">Whether one of them was on hold before: an entry that stands in the list already is another one now, or is gone.</param>
    public async Task<string> RunAsync(
        IReadOnlyList<(string Certificate, string Serial)> changed,
        Actor actor,
        string why,
        bool wasHeld,
        CancellationToken ct
    )
    {
        Forget();
        presence.JudgeAgain();
        foreach (var (_, serial) in changed)
        foreach (var one in concerned)
            one.Revoked(serial);
        if (wasHeld)
            book.Reset();
        var told = await publish.RunAsync(actor, why, CrlOccasion.Changed, ct);
        foreach (var name in changed.Select(c => c.Certificate).Distinct())
            changes.Tell("certificate", name);
        return told;
    }

    /// <summary>Who speaks with which certificate is asked anew at the next call.</summary>
    public void Forget() => clients.Forget();
}
