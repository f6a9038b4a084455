using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Probes;
using OrderlyBeacon.Service.Anchors;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Outside;
using OrderlyBeacon.Service.Revocations;

namespace OrderlyBeacon.Service.Trust;

/// <summary>Turns what an agent met into what clients make of it.</summary>
public sealed class JudgeLook(AuthorityRegistry registry, OutsideBook outside, AnchorBook anchors, CrlShelf crls, TimeProvider clock)
{
    private RevocationStanding StandingOf(X509 issuer, X509 certificate) =>
        RevocationStanding.Judge(certificate, issuer, crls.ListsOf(issuer), registry.All, clock.GetUtcNow());

    private static IEnumerable<LookProblemInfo> OldVersions(LookReport r)
    {
        // Those that are not used any more (RFC 8996).
        var old = TlsVersions.Below(LowestTls.Tls12, r.Versions ?? []);
        if (old.Count > 0)
            yield return new(
                BeaconProblem.SlugOf(LookFault.OldVersion),
                Contracts.Severity.Soon,
                $"It still takes {string.Join(" and ", old)}.",
                "Clients that know nothing newer are served with what has been broken for years; audits object.",
                "Raise the lowest version: beacon require-tls HOST/SERVICE --lowest 1.2, where an agent looks after it; else in its configuration."
            );
    }

    private static IEnumerable<LookProblemInfo> ClearText(LookReport r)
    {
        if (r.Readable?.Contains(Readable.Logins) == true)
            yield return new(
                BeaconProblem.SlugOf(LookFault.LoginsInTheClear),
                Contracts.Severity.Soon,
                "It takes names and passwords without TLS too.",
                "Whoever listens on the way reads them.",
                "Require TLS there: beacon require-tls HOST/SERVICE, where an agent looks after it; else in its configuration."
            );
    }

    private StapleVerdict Staple(LookReport r, IReadOnlyList<X509> served, TrustPath? path)
    {
        if (r.Staple is not { } staple)
            return new(null, null);
        var issuer = path?.Certificates.Skip(1).FirstOrDefault() ?? served.Skip(1).FirstOrDefault(c => c.Subject.Matches(served[0].Issuer));
        return StapleJudge.Judge(served[0], issuer, Convert.FromBase64String(staple), clock.GetUtcNow());
    }

    private static string Sentence(string text) => text.TrimEnd(' ', '.') + ".";

    public LookInfo Run(LookReport r, string? from)
    {
        if (r.Outcome != LookOutcome.Served || r.Chain.Count == 0)
            return Refused(r, from, NothingServed(r));
        try
        {
            var served = Served(r);
            var verdict = By(r, served, [.. registry.Anchors, .. outside.Anchors]);
            var staple = Staple(r, served, verdict.Path);
            List<LookProblemInfo> problems = [.. verdict.Problems.Select(Problem), .. OldVersions(r), .. ClearText(r)];
            if (staple.Problem is { } of)
                problems.Insert(0, Problem(of));
            var severity = problems.Select(p => p.Severity).DefaultIfEmpty(Contracts.Severity.Fine).Max();
            return Info(r, from, verdict.Accepted && staple.Problem is null, severity, problems) with
            {
                Versions = r.Versions?.Where(TlsVersions.All.Contains).ToList(),
                Staple = staple.Words,
                ChainSteps = verdict.Path?.Steps ?? [],
                Served = Shapes.Text(served[0]),
                Anchor = anchors.EndOf(verdict.Path),
            };
        }
        catch (Exception e) when (e is BeaconProblem or FormatException)
        {
            return Refused(
                r,
                from,
                new(
                    OpenWord<ConcernKind>.WordOf(ConcernKind.CertificateMalformed),
                    Contracts.Severity.Now,
                    "What it serves is no readable certificate: " + e.Message,
                    "Every client refuses it.",
                    "Request a certificate and bind it."
                )
            );
        }
    }

    private static List<X509> Served(LookReport r) =>
        [.. r.Chain.Take(LookReport.MostCertificates).Select(c => X509.Read(Convert.FromBase64String(c)))];

    /// <summary>What clients that trust these anchors, and no others, make of what was served.</summary>
    /// <exception cref="BeaconProblem">What was served cannot be read.</exception>
    public LookVerdict By(LookReport r, IReadOnlyList<X509> trusted) => By(r, Served(r), trusted);

    private LookVerdict By(LookReport r, List<X509> served, IReadOnlyList<X509> trusted) =>
        LookJudge.Judge(r.ServerName, served, trusted, [.. registry.All, .. outside.Intermediates], clock.GetUtcNow(), StandingOf);

    private static LookInfo Refused(LookReport r, string? from, LookProblemInfo problem) =>
        Info(r, from, accepted: false, Contracts.Severity.Now, [problem]);

    private static LookInfo Info(
        LookReport r,
        string? from,
        bool accepted,
        Contracts.Severity severity,
        IReadOnlyList<LookProblemInfo> problems
    ) =>
        new(r.Address, r.Port, r.ServerName, r.At, r.Outcome, r.Protocol, accepted, severity, problems, [], null, from)
        {
            Readable = r.Readable,
        };

    private static LookProblemInfo Problem(LookProblem p) =>
        new(BeaconProblem.SlugOf(p.Fault), (Contracts.Severity)(int)p.Severity, p.Reason, p.Hurts, p.Cure);

    private static LookProblemInfo NothingServed(LookReport r) =>
        r.Outcome switch
        {
            LookOutcome.PlainOnly => Now(
                LookFault.PlainOnly,
                "It answers in the clear only.",
                "Everything its clients send can be read and altered on the way.",
                "Request a certificate and bind it; TLS is switched on with it."
            ),
            LookOutcome.NoAnswer => Now(
                LookFault.NoAnswer,
                "Nothing answers there: " + Sentence(r.Message),
                "No client gets through.",
                r.Message == TlsProbe.NameNotKnown
                    ? "Check how the name is written, or add it to DNS where it is looked at from."
                    : "Start the server, or check its listeners."
            ),
            LookOutcome.Unknown => Now(
                LookFault.HandshakeFailed,
                "The agent met something that this service does not know: " + Sentence(r.Message),
                "It is not known whether clients get through.",
                "Update the service: its agents are newer."
            ),
            _ => Now(
                LookFault.HandshakeFailed,
                "No TLS connection comes about: " + Sentence(r.Message),
                "No client gets through.",
                "Bind a certificate again, or look into the server's own log."
            ),
        };

    private static LookProblemInfo Now(LookFault fault, string reason, string hurts, string cure) =>
        new(BeaconProblem.SlugOf(fault), Contracts.Severity.Now, reason, hurts, cure);
}
