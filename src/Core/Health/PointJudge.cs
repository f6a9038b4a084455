using OrderlyBeacon.Core.Paths;
using static OrderlyBeacon.Core.Health.PointWords;

namespace OrderlyBeacon.Core.Health;

/// <summary>Judges what a client finds at the addresses in certificates: reachable, of the right kind, of the right key, good and fresh; else what is wrong, why, whom it hurts and the cure.</summary>
public static class PointJudge
{
    public static PointVerdict Judge(PointExpectation e, Fetched f, DateTimeOffset now)
    {
        try
        {
            if (OfTransport(e, f) is { } transport)
                return Bad(transport);
            var verdict = e.Kind switch
            {
                PointKind.IssuerCertificate => CertificatePoint.Judge(e, f, now),
                PointKind.Ocsp => AnswerPoint.Judge(e, f, now),
                _ => ListPoint.Judge(e, f, now),
            };
            if (verdict.Finding is null && f.ServerTime is { } there && (there - now).Duration() > Skew)
                return verdict with
                {
                    Finding = new(
                        PointFault.ClockSkew,
                        Severity.Soon,
                        $"The server there has {there:yyyy-MM-dd HH:mm:ss} UTC, this one {now:yyyy-MM-dd HH:mm:ss}.",
                        ["A clock is not kept by NTP, there or here."],
                        "Lists and answers look too young or too old to clients.",
                        "Put both clocks right."
                    ),
                };
            return verdict;
        }
        catch (BeaconProblem p)
        {
            return Bad(
                new(
                    PointFault.WrongType,
                    Severity.Now,
                    $"The content is not a valid {Word(e.Kind)}: {p.Message}",
                    TypeCauses(f),
                    Hurts(e.Kind),
                    Republish(e.Kind)
                )
            );
        }
    }

    private static PointFinding? OfTransport(PointExpectation e, Fetched f)
    {
        if (f.MoreThan is { } most)
            return new(
                PointFault.TooLarge,
                Severity.Now,
                $"More than {most / 1024:N0} KiB come from there; reading was given up.",
                ["The address leads to another file.", "The server sends without end."],
                Hurts(e.Kind),
                "Look at what the server has at this address, and put the right file there."
            );
        if (f.TimedOut)
            return new(
                PointFault.TimedOut,
                Severity.Now,
                "No answer came in time.",
                ["The server there is overloaded or hangs.", "A firewall swallows the packets."],
                Hurts(e.Kind),
                "Look at that server; then check again."
            );
        if (f.Failure is { } why)
            return new(
                PointFault.Unreachable,
                Severity.Now,
                $"Nothing answers there: {why}",
                ["The web server is down.", "The name leads to another machine, or to none.", "A firewall is in between."],
                Hurts(e.Kind),
                "Start the web server there, or correct the name; then check again."
            );
        return OfStatus(e, f) ?? OfType(e, f);
    }

    private static PointFinding? OfStatus(PointExpectation e, Fetched f)
    {
        switch (f.Status)
        {
            case >= 200 and < 300:
                return null;
            case 404 or 410:
                return new(
                    PointFault.Missing,
                    Severity.Now,
                    $"The server there has no such file (HTTP {f.Status}).",
                    ["It was never published there.", "The file was removed or renamed.", "The server's root folder was moved."],
                    Hurts(e.Kind),
                    Republish(e.Kind)
                );
            case >= 300 and < 400:
                return new(
                    PointFault.Redirected,
                    Severity.Now,
                    $"It sends clients to {f.Location ?? "another address"} (HTTP {f.Status}).",
                    ["The web server sends everything to https.", "The site was moved."],
                    "Many clients do not follow, and none can check an https certificate with a list that only https gives. "
                        + Hurts(e.Kind),
                    "Serve this address over plain HTTP without a redirect."
                );
            default:
                return new(
                    PointFault.ServerError,
                    Severity.Now,
                    $"The server there answers with HTTP {f.Status}.",
                    ["A proxy in front of it cannot reach it.", "It may not read the file."],
                    Hurts(e.Kind),
                    "Look into that server's log; then check again."
                );
        }
    }

    private static PointFinding? OfType(PointExpectation e, Fetched f)
    {
        if (f.ContentType?.Split(';')[0].Trim() is "text/html" or "application/xhtml+xml")
            return new(
                PointFault.WrongType,
                Severity.Now,
                $"A web page ({f.ContentType!.Split(';')[0]}) comes instead of the {Word(e.Kind)}.",
                TypeCauses(f),
                Hurts(e.Kind),
                Republish(e.Kind)
            );
        return null;
    }
}
