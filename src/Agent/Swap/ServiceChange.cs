using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>
/// The transaction that changes how one service is configured, without another certificate: restore point → apply → take up → look → confirm, or restore and take up again.
/// </summary>
internal sealed class ServiceChange(SwapJournal journal, TimeProvider clock, Action<string> step)
{
    private readonly Undoing _undoing = new(journal, clock, step);

    /// <summary>The server's own test on what would be.</summary>
    /// <exception cref="BeaconProblem">It would not start with it.</exception>
    public static void Test(IConnector instance, ChangeSet plan)
    {
        var would = new Overlay(instance.Files);
        would.Add(plan.Edits);
        instance.Test(would);
    }

    /// <summary>As people see it before it is made.</summary>
    public static BindPlan Preview(ChangeSet plan, string label) =>
        new(
            label,
            plan.Steps,
            [.. plan.Edits.Select(e => new FileChange(e.Path, TextDiff.Of(ByteText.Show(e.Before ?? ""), ByteText.Show(e.After ?? ""))))],
            plan.Warnings
        );

    public static void Apply(IEnumerable<OwnedEdit> edits)
    {
        foreach (var edit in edits)
            edit.Apply();
    }

    /// <param name="neighbours">What was served before.</param>
    /// <param name="see">What must be seen afterwards, besides that.</param>
    /// <param name="confirm">Keeps what has to be known of it later.</param>
    /// <exception cref="BeaconProblem">Everything is as it was, or <see cref="ProblemCode.SwapStuck"/>.</exception>
    public async Task RunAsync(
        long order,
        IConnector instance,
        ChangeSet plan,
        Neighbours neighbours,
        Func<Task> see,
        Action confirm,
        CancellationToken ct
    )
    {
        Test(instance, plan);
        var edits = plan.Edits.Select(e => OwnedEdit.Of(e, instance)).ToList();
        var record = journal.Open(new(order, null, null, null, null, null, null, []) { Instances = [instance.Id.Name] }, edits);
        try
        {
            Apply(edits);
            if (edits.Count > 0)
                instance.TakeUp();
            await Settling.WaitAsync([instance], clock, ct);
            if (!instance.IsRunning())
                throw new BeaconProblem(ProblemCode.ServerDied, "The server did not survive the reload.", "Look into its error log.");
            await see();
            await neighbours.ThrowIfWorseAsync(ct);
            confirm();
            journal.Close(order);
        }
        catch (Exception e) when (e is BeaconProblem or IOException or UnauthorizedAccessException)
        {
            throw await _undoing.RunAsync([instance], record, e, neighbours, ct);
        }
    }
}
