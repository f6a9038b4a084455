using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Renewals;

/// <summary>Does one piece of a regular round: what fails is logged, and the next piece has its turn.</summary>
internal sealed class Guarded(IServiceScopeFactory scopes, ILogger log)
{
    private readonly Dictionary<string, string> _said = [];

    public async Task RunAsync(string what, Func<IServiceProvider, CancellationToken, Task> work, CancellationToken ct)
    {
        try
        {
            await using var scope = scopes.CreateAsyncScope();
            await work(scope.ServiceProvider, ct);
            _said.Remove(what);
        }
        catch (BeaconProblem p)
        {
            // Expected, and tried again in two seconds: it is said once.
            if (_said.TryGetValue(what, out var before) && before == p.Message)
                return;
            _said[what] = p.Message;
            log.LogWarning("The regular round could not do its {What}: {Message} {Cure}", what, p.Message, p.Cure);
        }
        catch (Exception e) when (e is not OperationCanceledException || !ct.IsCancellationRequested)
        {
            log.LogError(e, "The regular round could not do its {What}", what);
        }
    }
}
