using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>Puts back what a swap changed, after a failure or after a kill, and says honestly how that ended.</summary>
internal sealed class Undoing(SwapJournal journal, TimeProvider clock, Action<string> step)
{
    /// <summary>What a server is like after it was put back; null when it is as it was.</summary>
    private sealed record Leftover(string Words, string Cure);

    /// <returns>The first cause, with how the undoing ended: a problem of its code when everything is as it was, else <see cref="ProblemCode.SwapStuck"/>.</returns>
    public async Task<BeaconProblem> RunAsync(
        IReadOnlyList<IConnector> instances,
        SwapRecord record,
        Exception cause,
        Neighbours neighbours,
        CancellationToken ct
    )
    {
        step("putting everything back");
        var problem =
            cause as BeaconProblem
            ?? new BeaconProblem(ProblemCode.CannotWrite, cause.Message, "Check the disk and the permissions on the host.");
        IReadOnlyList<string> left;
        try
        {
            left = journal.Restore(record, name => instances.FirstOrDefault(i => i.Id.Name == name));
        }
        catch (Exception e) when (e is BeaconProblem or IOException or UnauthorizedAccessException)
        {
            // The restore points stay on the disk: they are put back before the next swap, and at the next start.
            return Stuck(
                problem,
                $"Not everything could be put back: {e.Message}",
                e is BeaconProblem p
                    ? $"{p.Cure} Then start the agent again."
                    : "Free the disk or correct the permissions; then start the agent again."
            );
        }
        var leftovers = new List<Leftover>();
        var died = false;
        foreach (var instance in instances.Reverse())
        {
            died |= !instance.IsRunning();
            if (Again(instance) is { } leftover)
                leftovers.Add(leftover);
        }
        await Settling.WaitAsync(instances, clock, ct);
        journal.Close(record.Order);
        if (leftovers.Count == 0)
            leftovers.AddRange(instances.Where(i => !i.IsRunning()).Select(NotRunning));
        if (await neighbours.WorseAsync(ct) is { } worse)
            leftovers.Add(StillRefused(worse, byOthers: left.Count > 0 || leftovers.Count == 0));
        if (leftovers.Count > 0)
            return Stuck(
                problem,
                string.Join(" ", leftovers.Select(l => l.Words)),
                string.Join(" ", leftovers.Select(l => l.Cure).Distinct())
            );
        var after = (died, left.Count) switch
        {
            (true, _) => "Everything was put back and the server was started again.",
            (_, > 0) => $"{string.Join(", ", left)} was changed by somebody else meanwhile and is left as it is.",
            _ => "Everything is as it was.",
        };
        return new(problem.Code, $"{problem.Message} {after}", problem.Cure);
    }

    private static Leftover NotRunning(IConnector instance) =>
        new($"{instance.Id} is not running.", "Start it by hand; its log says why it does not start.");

    /// <param name="byOthers">Whether something else than our change must be the cause.</param>
    private static Leftover StillRefused(string worse, bool byOthers) =>
        byOthers
            ? new(
                $"Our changes were put back, but clients are refused still: {worse}.",
                "Its configuration was changed by somebody else and was taken up now; correct it."
            )
            : new($"Clients are refused: {worse}.", "They are served again when the server is.");

    private static BeaconProblem Stuck(BeaconProblem cause, string state, string cure) =>
        new(ProblemCode.SwapStuck, $"{cause.Message} {state}", $"{cure} Then order it again.");

    private static Leftover? Again(IConnector instance)
    {
        try
        {
            if (instance.IsRunning())
                instance.TakeUp();
            else
                instance.Start();
            return null;
        }
        catch (BeaconProblem p)
        {
            var cure = instance.IsRunning() ? p.Cure : $"{p.Cure} Then start it by hand.";
            return new($"{instance.Id} does not take up what was put back: {p.Message}", cure);
        }
    }

    /// <summary>After a kill: whatever was not confirmed is undone, so that the order can be done again from the start.</summary>
    public async Task RecoverAsync(Func<string, IConnector?> instanceOf, CancellationToken ct)
    {
        foreach (var record in journal.Unfinished())
        {
            step($"order {record.Order} was cut off; putting everything back");
            var left = journal.Restore(record, instanceOf);
            var instances = record.Servers.Select(instanceOf).OfType<IConnector>().ToList();
            foreach (var instance in instances)
                if (Again(instance) is { } leftover)
                    step($"{leftover.Words} {leftover.Cure}");
            await Settling.WaitAsync(instances, clock, ct);
            foreach (var l in left)
                step($"{l} was changed by somebody else meanwhile and is left as it is");
            journal.Close(record.Order);
        }
    }
}
