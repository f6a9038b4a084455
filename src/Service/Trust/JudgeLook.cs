using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Outside;
using OrderlyBeacon.Service.Revocations;

namespace OrderlyBeacon.Service.Trust;

/// <summary>Turns what an agent met into what clients make of it.</summary>
public sealed class JudgeLook(AuthorityRegistry registry, OutsideBook outside, CrlShelf crls, TimeProvider clock)
{
    private RevocationStanding StandingOf(X509 issuer, X509 certificate) =>
        RevocationStanding.Judge(certificate, issuer, crls.ListsOf(issuer), registry.All, clock.GetUtcNow());

    private static string Sentence(string text) => text.TrimEnd(' ', '.') + ".";

    public LookInfo Run(LookReport r, string? from)
    {
        if (r.Outcome != LookOutcome.Served || r.Chain.Count == 0)
            return Refused(r, from, NothingServed(r));
        try
        {
            var served = r.Chain.Take(LookReport.MostCertificates).Select(c => X509.Read(Convert.FromBase64String(c))).ToList();
            var verdict = LookJudge.Judge(
                r.ServerName,
                served,
                [.. registry.Anchors, .. outside.Anchors],
                [.. registry.All, .. outside.Intermediates],
                clock.GetUtcNow(),
                StandingOf
            );
            return Info(r, from, verdict.Accepted, (Contracts.Severity)(int)verdict.Severity, [.. verdict.Problems.Select(Problem)]) with
            {
                ChainSteps = verdict.Path?.Steps ?? [],
                Served = Shapes.Text(served[0]),
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

    private static LookInfo Refused(LookReport r, string? from, LookProblemInfo problem) =>
        Info(r, from, accepted: false, Contracts.Severity.Now, [problem]);

    private static LookInfo Info(
        LookReport r,
        string? from,
        bool accepted,
        Contracts.Severity severity,
        IReadOnlyList<LookProblemInfo> problems
    ) => new(r.Address, r.Port, r.ServerName, r.At, r.Outcome, r.Protocol, accepted, severity, problems, [], null, from);

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
                "Start the server, or check its listeners."
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
