using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Concerns;

/// <summary>What of a certificate needs a hand, and when that changes by itself.</summary>
internal static class JudgeCertificate
{
    /// <summary>A person needs weeks to replace what nothing renews; a short life gives its last third.</summary>
    public static TimeSpan SoonBefore(DateTimeOffset from, DateTimeOffset until)
    {
        var third = (until - from) / 3;
        return third < Weeks ? third : Weeks;
    }

    private static readonly TimeSpan Weeks = TimeSpan.FromDays(30);

    /// <summary>What a service shows is told with the service, so <c>broken</c> and <c>behind</c> are none of its concerns.</summary>
    public static Found? Run(int id, CertificateInfo c)
    {
        if (Kind(c) is not { } kind)
            return null;
        var (reason, hurts, cure) = Words(kind, c);
        var severity = c.Failures > 0 ? Severity.Failed : c.Severity;
        return new(ConcernSubject.Certificate, id, kind, c.Name, severity, reason, hurts, cure)
        {
            Command = Command(kind, c),
            Link = $"/certificates/{Uri.EscapeDataString(c.Name)}",
        };
    }

    /// <summary>When time alone opens or worsens a concern; null when it does not.</summary>
    public static DateTimeOffset? NextAt(CertificateInfo c, DateTimeOffset now)
    {
        if (c is not { NotBefore: { } from, NotAfter: { } until } || until <= now)
            return null;
        var soon = until - SoonBefore(from, until);
        return (c.Planned is null || c.Outside is not null) && soon > now ? soon : until;
    }

    /// <summary>What failed stays told while it is tried again: it is over when it has worked.</summary>
    private static ConcernKind? Kind(CertificateInfo c) =>
        c.State switch
        {
            _ when c.Failures > 0 => c.RetryAt is null ? ConcernKind.Stuck : ConcernKind.RenewalFailed,
            "on hold" => ConcernKind.OnHold,
            "revoked" => ConcernKind.Revoked,
            "expired" => ConcernKind.Expired,
            "expires soon" => ConcernKind.ExpiresSoon,
            "not issued yet" => ConcernKind.NotIssuedYet,
            _ when c.Rollover is { } r && (r.IsByHand || r.Problem is not null) => r.Step == RolloverStep.Removing
                ? ConcernKind.RecordsToRemove
                : ConcernKind.RecordsToAdd,
            _ => null,
        };

    private static (string Reason, string Hurts, string Cure) Words(ConcernKind kind, CertificateInfo c)
    {
        var renew = c.Host is null ? "Whoever has its key makes a new request." : "Renew it.";
        return kind switch
        {
            ConcernKind.RenewalFailed => (
                (c.LastError ?? "The last try failed.")
                    + (c.State != "renewal failed" ? " It is being tried again now." : $" It is tried again at {c.RetryAt:HH:mm:ss} UTC."),
                c.NotAfter is { } end
                    ? $"The edition in use expires on {end:d MMM yyyy HH:mm}; everything is as it was."
                    : "It is not issued yet; everything is as it was.",
                "Fix the cause; it continues by itself, or at once with the command."
            ),
            ConcernKind.Stuck => (
                c.LastError ?? "A server could not be put back.",
                "Its services may be away, or refused by their clients; nothing is tried by itself.",
                "Do at the host what it says; then order it again with the command."
            ),
            ConcernKind.OnHold => (
                "Its current edition is on hold.",
                "Clients that check revocation refuse it until it is released.",
                "Release it, or revoke it for good."
            ),
            ConcernKind.Revoked => ("Its current edition is revoked.", "Clients that check revocation refuse it.", "Renew it."),
            ConcernKind.Expired => ($"Its edition expired on {c.NotAfter:d MMM yyyy HH:mm}.", "Every client refuses it.", renew),
            ConcernKind.ExpiresSoon when c.Outside is not null => (
                $"It expires on {c.NotAfter:d MMM yyyy}, and the answer of {c.Outside} is missing.",
                "After that clients refuse it.",
                "Carry its CSR there, and bring the answer."
            ),
            ConcernKind.ExpiresSoon => (
                $"It expires on {c.NotAfter:d MMM yyyy} and nothing renews it.",
                "After that clients refuse it.",
                renew
            ),
            ConcernKind.RecordsToAdd => (
                $"Its next key waits for its TLSA {RecordsOf(c)} in DNS. {c.Rollover!.Problem}".TrimEnd(),
                c.NotAfter is { } ends
                    ? $"It is not renewed until then; the edition in use expires on {ends:d MMM yyyy HH:mm}."
                    : "Its services wait for it.",
                $"Add to the zone: {LinesOf(c, true)}. It continues by itself; if it cannot wait: beacon cert go-on."
            ),
            ConcernKind.RecordsToRemove when c.Rollover!.ToDo.Any(t => t.IsAdded) => (
                $"Its key is served, and DNS does not speak of it yet. {c.Rollover.Problem}".TrimEnd(),
                "Clients that go by DNS refuse it.",
                $"Add to the zone: {LinesOf(c, true)}."
            ),
            ConcernKind.RecordsToRemove => (
                $"DNS still has the TLSA {RecordsOf(c)} of a key that is used no more. {c.Rollover!.Problem}".TrimEnd(),
                "Nobody yet; a key that is used no more stays good for clients that go by DNS.",
                $"Remove from the zone: {LinesOf(c, false)}."
            ),
            _ => ("It has not been issued.", "Its services wait for it.", "Look at its request."),
        };
    }

    private static string RecordsOf(CertificateInfo c) => c.Rollover!.ToDo.Count == 1 ? "record" : "records";

    /// <summary>Some of them: all are on its page.</summary>
    private static string LinesOf(CertificateInfo c, bool added)
    {
        const int most = 3;
        var lines = c.Rollover!.ToDo.Where(t => t.IsAdded == added).Select(t => t.Line).ToList();
        return lines.Count == 0
            ? "see its page"
            : string.Join("; ", lines.Take(most)) + (lines.Count > most ? $"; and {lines.Count - most} more" : "");
    }

    private static string Command(ConcernKind kind, CertificateInfo c)
    {
        if (kind == ConcernKind.ExpiresSoon && c.Outside is not null)
            return ShellCommand.Of($"beacon request list {c.Name}");
        if (kind == ConcernKind.OnHold)
            return ShellCommand.Of($"beacon cert release {c.Name}");
        if (kind is ConcernKind.RecordsToAdd or ConcernKind.RecordsToRemove || c.Host is null)
            return ShellCommand.Of($"beacon cert show {c.Name}");
        return ShellCommand.Of($"beacon cert renew {c.Name}");
    }
}
