using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Concerns;

/// <summary>What of a service needs a hand, and when that changes by itself.</summary>
internal static class JudgeService
{
    public static Found? Run(int id, ServiceInfo s)
    {
        var about = $"{ShortName.Of(s.Host)}/{s.Name}";
        if (s.Binding is { State: BindingState.Broken or BindingState.Behind } b)
            return new(
                ConcernSubject.Service,
                id,
                b.State == BindingState.Broken ? ConcernKind.BindingBroken : ConcernKind.BindingBehind,
                about,
                Severity.Failed,
                b.Message ?? "Another edition than the current one is served.",
                "Clients meet the wrong certificate or none.",
                "Bind it again."
            )
            {
                Command = ShellCommand.Of($"beacon bind {b.Certificate} --to {about}"),
                Link = $"/hosts/{s.Host}",
            };
        if (s.Look?.Problems.FirstOrDefault() is { Severity: >= Severity.Soon } p)
            return new(
                ConcernSubject.Service,
                id,
                OpenWord<ConcernKind>.Of(p.Fault),
                about,
                p.Severity,
                p.Fault == "ends-soon"
                    ? $"The certificate expires on {s.Look.Served?.NotAfter:d MMM yyyy}, and nothing renews it."
                    : p.Reason,
                p.Hurts,
                p.Cure
            )
            {
                // A certificate that is ready may be there by the time that somebody reads it: the command is found then.
                Command = p.Fault == "no-answer" ? ShellCommand.Of($"beacon look {s.Names.FirstOrDefault() ?? s.Name}") : null,
                Link = p.Fault == "no-answer" ? $"/hosts/{s.Host}" : $"/new?host={s.Host}&service={Uri.EscapeDataString(s.Name)}",
            };
        return s.Problem is { } x
            ? new(
                ConcernSubject.Service,
                id,
                ConcernKind.ServiceProblem,
                about,
                Severity.Soon,
                x.Message,
                "Nothing can be bound there.",
                x.Cure
            )
            {
                Link = $"/hosts/{s.Host}",
            }
            : null;
    }

    /// <summary>When time alone opens or worsens a concern; null when it does not.</summary>
    /// <param name="soonDays">How long before its end a certificate that nothing renews is called out.</param>
    public static DateTimeOffset? NextAt(ServiceInfo s, DateTimeOffset? servedUntil, int soonDays, DateTimeOffset now)
    {
        if (servedUntil is not { } until || until <= now)
            return null;
        var soon = until.AddDays(-soonDays);
        return s.Binding is null && soon > now ? soon : until;
    }
}
