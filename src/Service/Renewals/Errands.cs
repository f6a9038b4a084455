using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.Federation;
using OrderlyBeacon.Service.Health;
using OrderlyBeacon.Service.Publishing;
using OrderlyBeacon.Service.Records;

namespace OrderlyBeacon.Service.Renewals;

/// <summary>What the service does regularly at other machines. Apart from <see cref="Caretaker"/>: a machine that does not answer must not hold up a renewal or a list.</summary>
internal sealed class Errands(
    IServiceScopeFactory scopes,
    BeaconOptions options,
    AuthorityRegistry registry,
    RolloverBook rollovers,
    ProviderBook providers,
    TimeProvider clock,
    ILogger<Errands> log
) : BackgroundService
{
    private static readonly TimeSpan PushEvery = TimeSpan.FromSeconds(2),
        CollectEvery = TimeSpan.FromSeconds(6),
        PublishEvery = TimeSpan.FromSeconds(4),
        RollEvery = TimeSpan.FromSeconds(2),
        // Not at once: at the start there is enough to do.
        FirstHealth = TimeSpan.FromSeconds(12);

    /// <summary>One errand does not wait for another.</summary>
    protected override Task ExecuteAsync(CancellationToken stopping) =>
        Task.WhenAll(
            options.Pushes.Length == 0
                ? Task.CompletedTask
                : EachAsync("pushes", TimeSpan.Zero, PushEvery, (s, ct) => s.GetRequiredService<PushPublished>().RunAsync(ct), stopping),
            options.Directory.Length == 0
                ? Task.CompletedTask
                : EachAsync(
                    "publish editions",
                    TimeSpan.Zero,
                    PublishEvery,
                    (s, ct) => s.GetRequiredService<PublishEditions>().RunAsync(ct),
                    stopping
                ),
            EachAsync(
                "DNS records of next keys",
                TimeSpan.Zero,
                RollEvery,
                // Nothing is made for it where nothing is under way.
                (s, ct) => rollovers.HasDue ? s.GetRequiredService<RollKeys>().RunAsync(ct) : Task.CompletedTask,
                stopping
            ),
            EachAsync(
                "providers of federations",
                TimeSpan.Zero,
                RollEvery,
                (s, ct) => providers.HasDue ? s.GetRequiredService<RollProviders>().RunAsync(ct) : Task.CompletedTask,
                stopping
            ),
            EachAsync(
                "collect the parent's answer",
                TimeSpan.Zero,
                CollectEvery,
                (s, ct) => registry.Waiting is null ? Task.CompletedTask : s.GetRequiredService<CollectAnswer>().RunAsync(ct),
                stopping
            ),
            EachAsync(
                "look at the hierarchy",
                FirstHealth,
                TimeSpan.FromMinutes(options.HealthMinutes),
                (s, ct) => s.GetRequiredService<CheckHierarchy>().RunAsync(ct),
                stopping
            )
        );

    private async Task EachAsync(
        string what,
        TimeSpan first,
        TimeSpan every,
        Func<IServiceProvider, CancellationToken, Task> work,
        CancellationToken ct
    )
    {
        var guarded = new Guarded(scopes, log);
        try
        {
            await Task.Delay(first, clock, ct);
            while (true)
            {
                await guarded.RunAsync(what, work, ct);
                await Task.Delay(every, clock, ct);
            }
        }
        catch (OperationCanceledException) { }
    }
}
