using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>Looks as a client until the new edition is served wherever it was put.</summary>
internal static class SeeNew
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(15),
        Pause = TimeSpan.FromMilliseconds(50);

    /// <exception cref="BeaconProblem">It is not served: why, in the server's words when it has any.</exception>
    public static async Task<IReadOnlyList<LookReport>> RunAsync(
        SwapPlan plan,
        string serial,
        DateTimeOffset began,
        TimeProvider clock,
        CancellationToken ct
    )
    {
        var looks = new List<LookReport>();
        foreach (var part in plan.Parts)
        foreach (var target in part.Change.Targets.Distinct())
        {
            var until = clock.GetUtcNow() + Patience;
            while (true)
            {
                var look = await TlsProbe.LookAsync(target, clock, ct);
                var seen = look.Chain.Count > 0 ? X509.Read(Convert.FromBase64String(look.Chain[0])).Serial.Hex : null;
                if (look.Outcome == LookOutcome.Served && seen == serial)
                {
                    looks.Add(look with { Service = part.Service.Label });
                    break;
                }
                ThrowIfHopeless(part, target, look, seen, began, isLate: clock.GetUtcNow() > until);
                await Task.Delay(Pause, clock, ct);
            }
        }
        return looks;
    }

    private static void ThrowIfHopeless(SwapPart part, Probe target, LookReport look, string? seen, DateTimeOffset began, bool isLate)
    {
        var instance = part.Service.Instance;
        var complaint = instance.LastComplaint(began);
        if (!instance.IsRunning())
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"{instance.Id.Name} did not survive the reload. {complaint}",
                "Look into its error log."
            );
        if (complaint is null && !isLate)
            return;
        var at = $"{target.Name} at {target.Address}:{target.Port}";
        var met =
            look.Outcome == LookOutcome.Served
                ? $"{at} still serves another certificate ({seen})."
                : $"{at} cannot be reached by TLS: {look.Message.TrimEnd('.')}.";
        var why = complaint is null ? met : $"{instance.Id.Name} did not take it up: {complaint.TrimEnd('.')}.";
        throw new BeaconProblem(ProblemCode.SwapUndone, why, "Correct what the message names; it is tried again by itself.");
    }
}
