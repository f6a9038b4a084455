using OrderlyBeacon.Core.Paths;
using OrderlyBeacon.Core.Revocation;
using static OrderlyBeacon.Core.Health.PointWords;

namespace OrderlyBeacon.Core.Health;

/// <summary>Judges what stands where a revocation list belongs (RFC 5280, section 5).</summary>
internal static class ListPoint
{
    public static PointVerdict Judge(PointExpectation e, Fetched f, DateTimeOffset now)
    {
        if (f.Body.Length > 0 && f.Body.Span[0] == (byte)'-')
            return Bad(
                new(
                    PointFault.WrongType,
                    Severity.Now,
                    "The list there is in PEM; clients read DER there (RFC 5280 section 4.2.1.13).",
                    ["It was copied by hand from a PEM file."],
                    Hurts(e.Kind),
                    Republish(e.Kind)
                )
            );
        var crl = Crl.Read(f.Body);
        return OfWhoseList(e, crl) ?? OfListsTimes(e, crl, now);
    }

    /// <summary>Null when the list is the issuer's, of the kind that belongs there.</summary>
    private static PointVerdict? OfWhoseList(PointExpectation e, Crl crl)
    {
        if (!crl.Issuer.Der.Span.SequenceEqual(e.Issuer.Subject.Der.Span))
            return Bad(Other(e, null, crl.Issuer.ToString(), null));
        if (!crl.SignedBy(e.Issuer.PublicKey))
        {
            var other = e.Family.FirstOrDefault(g => crl.SignedBy(g.PublicKey));
            return Bad(
                other is not null
                    ? Other(e, other, crl.Issuer.ToString(), other)
                    : new(
                        PointFault.BadSignature,
                        Severity.Now,
                        "The signature of the list there does not hold.",
                        ["The file was altered or cut short on its way.", "It is of another authority with the same name."],
                        Hurts(e.Kind),
                        Republish(e.Kind)
                    )
            );
        }
        if (crl.BaseNumber is null != (e.Kind == PointKind.Crl))
            return Bad(
                new(
                    PointFault.WrongType,
                    Severity.Now,
                    e.Kind == PointKind.Crl
                        ? "A delta is there, where the full list belongs."
                        : "A full list is there, where the delta belongs.",
                    ["Two files were taken for one another."],
                    Hurts(e.Kind),
                    Republish(e.Kind)
                )
            );
        return null;
    }

    private static PointVerdict OfListsTimes(PointExpectation e, Crl crl, DateTimeOffset now)
    {
        if (crl.NextUpdate is not { } until)
            return Bad(
                new(
                    PointFault.WrongType,
                    Severity.Now,
                    "The list there does not say when the next one comes (RFC 5280 section 5.1.2.5).",
                    ["It was made by another program."],
                    Hurts(e.Kind),
                    Republish(e.Kind)
                )
            );
        if (OfListsAge(e, crl, until, now) is { } old)
            return Bad(old);
        // The next list comes at half of the life; what is past three quarters is past half of the overlap.
        if (now > crl.ThisUpdate + (until - crl.ThisUpdate) * 0.75)
            return new(
                new(
                    PointFault.ExpiresSoon,
                    Severity.Soon,
                    $"List {crl.Number} there expires on {until:yyyy-MM-dd HH:mm} UTC, and its successor should have come.",
                    ["The next list was not signed or not published in time."],
                    $"From {until:yyyy-MM-dd HH:mm} UTC on clients that check revocation refuse everything.",
                    Republish(e.Kind)
                ),
                "",
                until
            );
        return new(
            null,
            $"{(crl.BaseNumber is null ? "List" : "Delta")} {crl.Number}, {crl.Revoked.Count} {(crl.BaseNumber is null ? "revoked" : "changes")}, good until {until:yyyy-MM-dd HH:mm} UTC.",
            until
        );
    }

    /// <summary>Null when the list is the newest and holds now.</summary>
    private static PointFinding? OfListsAge(PointExpectation e, Crl crl, DateTimeOffset until, DateTimeOffset now)
    {
        if (crl.ThisUpdate > now + Skew)
            return new(
                PointFault.ClockSkew,
                Severity.Now,
                $"The list there is of {crl.ThisUpdate:yyyy-MM-dd HH:mm} UTC, which is still to come.",
                ["The clock was ahead when it was signed.", "The clock here was set back."],
                "Clients whose clock is right refuse it.",
                "Put the clock right; then issue the list anew: beacon authority issue-crl issuing."
            );
        var stale = e.PublishedNumber is { } newest && crl.Number < newest;
        if (until < now)
            return new(
                PointFault.Expired,
                Severity.Now,
                $"List {crl.Number} there was good until {until:yyyy-MM-dd HH:mm} UTC{(stale ? $"; number {e.PublishedNumber} was published since" : "")}.",
                stale
                    ? ["The newer list was not copied here.", "A cache in between keeps the old one."]
                    : ["The next list was not signed or not published in time.", "The service was stopped, or its key could not be used."],
                Hurts(e.Kind),
                Republish(e.Kind)
            );
        if (stale)
            return new(
                PointFault.Stale,
                Severity.Soon,
                $"List {crl.Number} is there; number {e.PublishedNumber} was published since.",
                ["The newer list was not copied here.", "A cache in between keeps the old one."],
                $"What was revoked since is not seen here; from {until:yyyy-MM-dd HH:mm} UTC on clients refuse everything.",
                Republish(e.Kind)
            );
        return null;
    }
}
