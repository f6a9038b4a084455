using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Agent.Federation;

/// <summary>
/// Takes a provider one step: restore point → write → fetch the metadata as a partner does → confirm, or put back. What partners get is what counts, not what the file says.
/// </summary>
internal sealed class FederationWork(CertificateStore store, SwapJournal journal, TimeProvider clock, Action<string> step)
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(20),
        Pause = TimeSpan.FromMilliseconds(250);

    public BindPlan Describe(IConnector? server, FederationOrder wish, StoreEntry entry)
    {
        var provider = Of(server, wish);
        provider.Test(provider.Files);
        var plan = Plan(provider, wish, entry);
        ServiceChange.Test(provider, plan);
        return ServiceChange.Preview(plan, wish.Entity);
    }

    public async Task RunAsync(long order, IConnector? server, FederationOrder wish, StoreEntry entry, CancellationToken ct)
    {
        var provider = Of(server, wish);
        step("testing the configuration as it is");
        provider.Test(provider.Files);
        ThrowUnlessUsable(entry, wish.Act);
        store.Render(entry, provider.Needs);
        var plan = Plan(provider, wish, entry);
        var (before, after) = (Named(provider, wish.Entity, provider.Files), Named(provider, wish.Entity, Would(provider, plan)));
        if (plan.Edits.Count == 0)
        {
            await SeeAsync(provider, wish.Entity, after, ct);
            step("it is so already");
            return;
        }
        step("looking at what partners get now");
        await SeeAsync(provider, wish.Entity, before, ct);
        step(WordOf(wish.Act));
        await new ServiceChange(journal, clock, step).RunAsync(
            order,
            provider,
            plan,
            new Neighbours(clock),
            () => SeeAsync(provider, wish.Entity, after, ct),
            () => { },
            ct
        );
        step(
            wish.Act switch
            {
                FederationAct.Publish => "partners get both certificates",
                FederationAct.Sign => "it signs with the new key; partners get both certificates",
                FederationAct.Retire => "partners get the new certificate alone",
                _ => "partners get the certificate before alone",
            }
        );
    }

    private static string WordOf(FederationAct act) =>
        act switch
        {
            FederationAct.Publish => "publishing the next certificate beside the one that it signs with",
            FederationAct.Sign => "changing the key that it signs with",
            FederationAct.Retire => "taking the certificate before out of the metadata",
            _ => "taking the next certificate out of the metadata",
        };

    private static IFederation Of(IConnector? server, FederationOrder wish) =>
        wish.Act == FederationAct.Unknown
            ? throw new BeaconProblem(ProblemCode.ConfigurationUnsupported, "This agent does not know such a step.", "Update the agent.")
            : server as IFederation
                ?? throw new BeaconProblem(
                    ProblemCode.NotFound,
                    $"This host's agent looks after no provider \"{wish.Instance}\".",
                    "Name it to the agent: beacon-agent add simplesamlphp FOLDER."
                );

    private ChangeSet Plan(IFederation provider, FederationOrder wish, StoreEntry entry) =>
        provider.PlanStep(
            new(wish.Entity, wish.Act, CertificateStore.OwnFilesOf(entry, provider.Needs), entry.File.Thumbprint),
            provider.Files
        );

    private static Overlay Would(IFederation provider, ChangeSet plan)
    {
        var would = new Overlay(provider.Files);
        would.Add(plan.Edits);
        return would;
    }

    private static HashSet<Thumbprint> Named(IFederation provider, string entity, IFiles files)
    {
        var found = provider.Providers(files).FirstOrDefault(p => p.Entity == entity);
        return [.. new[] { found?.Signs, found?.Also }.OfType<SigningCertificate>().Select(s => new Thumbprint(s.Thumbprint))];
    }

    /// <summary>What nobody could use is not even published.</summary>
    private void ThrowUnlessUsable(StoreEntry entry, FederationAct act)
    {
        if (act is FederationAct.Withdraw or FederationAct.Retire)
            return;
        var leaf = entry.Leaf();
        if (leaf.NotAfter <= clock.GetUtcNow())
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"The edition {entry.File.Serial} has expired.",
                "Renew the certificate; its next edition is published then."
            );
        if (leaf.PublicKey.Spec.Algorithm != KeyAlgorithm.Rsa)
            throw new BeaconProblem(
                ProblemCode.ConfigurationUnsupported,
                $"\"{entry.File.Certificate}\" has a key that is no RSA key: this provider signs with RSA alone.",
                "Request it with --key rsa-3072."
            );
        CertificateStore.CheckPair(File.ReadAllText(entry.KeyPath), leaf);
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.SwapUndone"/>: partners get something else.</exception>
    private async Task SeeAsync(IFederation provider, string entity, HashSet<Thumbprint> expected, CancellationToken ct)
    {
        var until = clock.GetUtcNow() + Patience;
        while (true)
        {
            BeaconProblem? fault = null;
            IReadOnlyList<Thumbprint> met = [];
            try
            {
                met = await provider.PublishedAsync(entity, ct);
            }
            catch (BeaconProblem p)
            {
                fault = p;
            }
            if (fault is null && expected.SetEquals(met))
                return;
            if (clock.GetUtcNow() > until)
                throw fault
                    ?? new BeaconProblem(
                        ProblemCode.SwapUndone,
                        $"The metadata names {Count(met.Count)} for signatures, and not the {Count(expected.Count)} that the provider's file names.",
                        "Look whether the address is that of this provider, and whether something before it keeps an older copy."
                    );
            await Task.Delay(Pause, clock, ct);
        }
    }

    private static string Count(int n) => n == 1 ? "1 certificate" : $"{n} certificates";
}
