namespace OrderlyBeacon.Core.Issuing;

/// <summary>Why a certificate's life is not what was asked for.</summary>
public enum ValidityLimit
{
    /// <summary>It is as asked.</summary>
    AsAsked,

    /// <summary>The profile allows no longer life.</summary>
    Profile,

    /// <summary>The issuer's own certificate ends first.</summary>
    Issuer,
}

/// <summary>A certificate's dates and what cut them.</summary>
public sealed record Validity(DateTimeOffset NotBefore, DateTimeOffset NotAfter, ValidityLimit Limit)
{
    /// <summary>One sentence for people, or null when nothing was cut.</summary>
    public string? Reason =>
        Limit switch
        {
            ValidityLimit.Profile => "Shortened: the profile allows no longer life.",
            ValidityLimit.Issuer =>
                $"Shortened: the issuing authority's own certificate expires on {NotAfter:yyyy-MM-dd HH:mm}; renew the authority for full lives.",
            _ => null,
        };

    /// <summary>
    /// Works out the dates. The start is set back a little for clients whose clock is behind, never before the issuer's own start;
    /// the end includes its last second (RFC 5280 section 4.1.2.5), so a life of one hour spans 3600 seconds counting both ends from now.
    /// </summary>
    /// <param name="now">The moment of issuing.</param>
    /// <param name="asked">The wanted life, or null for the profile's.</param>
    /// <param name="most">The profile's life.</param>
    /// <param name="issuerFrom">The issuer's notBefore.</param>
    /// <param name="issuerTo">The issuer's notAfter.</param>
    public static Validity Work(DateTimeOffset now, TimeSpan? asked, TimeSpan most, DateTimeOffset issuerFrom, DateTimeOffset issuerTo)
    {
        var second = new DateTimeOffset(now.UtcTicks - now.UtcTicks % TimeSpan.TicksPerSecond, TimeSpan.Zero);
        var life = asked ?? most;
        var limit = ValidityLimit.AsAsked;
        if (life > most)
            (life, limit) = (most, ValidityLimit.Profile);
        // A short life gets a short set-back, so that the picture of its life stays true.
        var back = life < TimeSpan.FromHours(1) ? TimeSpan.FromSeconds(Math.Min(5, life.TotalSeconds / 10)) : TimeSpan.FromMinutes(2);
        var from = second - TimeSpan.FromSeconds(Math.Floor(back.TotalSeconds));
        if (from < issuerFrom)
            from = issuerFrom;
        var to = second + life - TimeSpan.FromSeconds(1);
        if (to > issuerTo)
            (to, limit) = (issuerTo, ValidityLimit.Issuer);
        if (to <= second)
            throw new BeaconProblem(
                ProblemCode.AuthorityNotReady,
                "The issuing authority's own certificate has expired, so nothing can be issued under it.",
                "Renew the authority first."
            );
        return new(from, to, limit);
    }
}
