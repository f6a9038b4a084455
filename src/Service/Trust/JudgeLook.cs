using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Revocations;

namespace OrderlyBeacon.Service.Trust;

/// <summary>Turns what an agent met into what clients make of it.</summary>
public sealed class JudgeLook(AuthorityRegistry registry, CrlShelf crls, TimeProvider clock)
{
    private RevocationStanding StandingOf(X509 issuer, X509 certificate) =>
        RevocationStanding.Judge(certificate, issuer, crls.ListsOf(issuer), registry.All, clock.GetUtcNow());

    private static string Sentence(string text) => text.TrimEnd(' ', '.') + ".";

    public LookInfo Run(LookReport r, string? from)
    {
        if (r.Outcome != LookOutcome.Served || r.Chain.Count == 0)
        {
            var (fault, reason, hurts, cure) = r.Outcome switch
            {
                LookOutcome.PlainOnly => (
                    LookFault.PlainOnly,
                    "It answers in the clear only.",
                    "Everything its clients send can be read and altered on the way.",
                    "Request a certificate and bind it; TLS is switched on with it."
                ),
                LookOutcome.NoAnswer => (
                    LookFault.NoAnswer,
                    "Nothing answers there: " + Sentence(r.Message),
                    "No client gets through.",
                    "Start the server, or check its listeners."
                ),
                LookOutcome.Unknown => (
                    LookFault.HandshakeFailed,
                    "The agent met something that this service does not know: " + Sentence(r.Message),
                    "It is not known whether clients get through.",
                    "Update the service: its agents are newer."
                ),
                _ => (
                    LookFault.HandshakeFailed,
                    "No TLS connection comes about: " + Sentence(r.Message),
                    "No client gets through.",
                    "Bind a certificate again, or look into the server's own log."
                ),
            };
            return new(
                r.Address,
                r.Port,
                r.ServerName,
                r.At,
                r.Outcome,
                r.Protocol,
                false,
                Contracts.Severity.Now,
                [new(BeaconProblem.SlugOf(fault), Contracts.Severity.Now, reason, hurts, cure)],
                [],
                null,
                from
            );
        }
        try
        {
            var served = r.Chain.Take(LookReport.MostCertificates).Select(c => X509.Read(Convert.FromBase64String(c))).ToList();
            var verdict = LookJudge.Judge(r.ServerName, served, registry.Anchors, registry.All, clock.GetUtcNow(), StandingOf);
            return new(
                r.Address,
                r.Port,
                r.ServerName,
                r.At,
                r.Outcome,
                r.Protocol,
                verdict.Accepted,
                (Contracts.Severity)(int)verdict.Severity,
                [
                    .. verdict.Problems.Select(p => new LookProblemInfo(
                        BeaconProblem.SlugOf(p.Fault),
                        (Contracts.Severity)(int)p.Severity,
                        p.Reason,
                        p.Hurts,
                        p.Cure
                    )),
                ],
                verdict.Path?.Steps ?? [],
                Shapes.Text(served[0]),
                from
            );
        }
        catch (Exception e) when (e is BeaconProblem or FormatException)
        {
            return new(
                r.Address,
                r.Port,
                r.ServerName,
                r.At,
                r.Outcome,
                r.Protocol,
                false,
                Contracts.Severity.Now,
                [
                    new(
                        "certificate-malformed",
                        Contracts.Severity.Now,
                        "What it serves is no readable certificate: " + e.Message,
                        "Every client refuses it.",
                        "Request a certificate and bind it."
                    ),
                ],
                [],
                null,
                from
            );
        }
    }
}
