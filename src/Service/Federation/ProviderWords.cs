using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Concerns;

namespace OrderlyBeacon.Service.Federation;

/// <summary>What people read of a provider.</summary>
/// <param name="soonDays">An end nearer than that needs a hand.</param>
public sealed class ProviderWords(Provider p, IReadOnlyList<PartnerInfo> partners, DateTimeOffset now, int soonDays)
{
    private const int MostNamed = 5,
        UrgentDays = 7;

    private IReadOnlyList<string> Unaware => [.. partners.Where(x => !x.Knows).Select(x => x.Entity)];

    private bool IsEndingAlone => p.Step is FederationStep.Unmanaged or FederationStep.Held && p.SignsUntil < now.AddDays(soonDays);

    public Severity Severity
    {
        get
        {
            if (p.IsFailed || p.SignsUntil <= now)
                return Severity.Failed;
            if (p.ProblemJson is not null || p.SignsUntil < now.AddDays(UrgentDays))
                return Severity.Now;
            if (IsEndingAlone || p.Step is FederationStep.Waiting or FederationStep.Held)
                return Severity.Soon;
            return Severity.Fine;
        }
    }

    public string Next =>
        p.Step switch
        {
            FederationStep.Unmanaged => "Nothing by itself: it signs with a certificate that nobody looks after here.",
            FederationStep.Steady =>
                "When its certificate is renewed, the next edition is published first, and signed with after its partners know it.",
            FederationStep.Publishing => "The next certificate is published beside the one that it signs with.",
            FederationStep.Waiting when p.GoOnAt is { } at =>
                $"It signs with the next one at {at:yyyy-MM-dd HH:mm} UTC, or as soon as all partners know it.",
            FederationStep.Waiting when partners.Count == 0 => "It names no partners: somebody has to say when it signs with the next one.",
            FederationStep.Waiting =>
                $"It signs with the next one as soon as {Named(Unaware)} {(Unaware.Count == 1 ? "knows" : "know")} it.",
            FederationStep.Switching => "It is being told to sign with the next one.",
            FederationStep.Fading =>
                $"The one before is published until {RollProviders.FadesUntil(p):yyyy-MM-dd HH:mm:ss} UTC: what it signed is of no use after that.",
            FederationStep.Retiring => "The one before is being taken out of the metadata.",
            FederationStep.Held => "Nothing by itself: somebody took a step back, and lets it go on.",
            _ => "",
        };

    public IReadOnlyList<string> Breaks
    {
        get
        {
            var breaks = new List<string>();
            if (p.Step == FederationStep.Waiting && Unaware.Count > 0)
                breaks.Add(
                    $"Were it to sign with the next one now, {Named(Unaware)} would refuse everybody who signs in by it: {(Unaware.Count == 1 ? "it knows" : "they know")} the one before alone."
                );
            if (p.Step == FederationStep.Fading)
                breaks.Add("Nobody, as far as is known: when the one before is taken out, everything that it signed is out of date.");
            if (p.SignsUntil is { } end && end < now.AddDays(soonDays))
                breaks.Add(
                    end <= now
                        ? "What it signs with has expired: partners that look at the date refuse everybody who signs in by it."
                        : $"From {end:yyyy-MM-dd HH:mm} UTC partners that look at the date refuse everybody who signs in by it."
                );
            return breaks;
        }
    }

    private static string Named(IReadOnlyList<string> names) =>
        names.Count <= MostNamed
            ? string.Join(", ", names)
            : $"{string.Join(", ", names.Take(MostNamed))} and {names.Count - MostNamed} more";

    public Found Concern
    {
        get
        {
            var (link, command) = ($"/federation/{p.Id}", $"beacon federation show {p.Id}");
            if (Shapes.Problem(p.FailureJson) is { } failure)
                return HouseConcerns.Of(
                    ConcernKind.SigningFailed,
                    p.Entity,
                    Severity.Failed,
                    failure.Message,
                    "Partners get what they got before.",
                    failure.Cure,
                    command,
                    link
                );
            return p.Step == FederationStep.Waiting
                ? HouseConcerns.Of(
                    ConcernKind.PartnersToLearn,
                    p.Entity,
                    Severity == Severity.Fine ? Severity.Soon : Severity,
                    partners.Count == 0
                        ? "Its next signing certificate is published, and it names no partners that could be waited for."
                        : $"{Unaware.Count} of {partners.Count} partners have not fetched its next signing certificate: {Named(Unaware)}.",
                    "It goes on signing with the one before.",
                    "Have them fetch the metadata, then say so; or let it go on with a reason.",
                    command,
                    link
                )
                : HouseConcerns.Of(
                    p.SignsUntil <= now ? ConcernKind.Expired : ConcernKind.EndsSoon,
                    p.Entity,
                    Severity == Severity.Fine ? Severity.Soon : Severity,
                    $"What it signs with {(p.SignsUntil <= now ? "expired" : "expires")} at {p.SignsUntil:yyyy-MM-dd HH:mm} UTC.",
                    "Partners that look at the date refuse everybody who signs in by it.",
                    "Give it a certificate to sign with.",
                    $"beacon federation sign-with {p.Id} CERTIFICATE",
                    link
                );
        }
    }
}
