using System.Security.Cryptography;
using System.Text;

namespace OrderlyBeacon.Core.Renewal;

/// <summary>When a certificate is renewed.</summary>
/// <param name="After">The part of its life after which it falls due, 0.05 to 0.95; by default two thirds.</param>
/// <param name="NewKey">Each edition gets a key of its own.</param>
/// <param name="Automatic">The service orders the renewal by itself.</param>
public sealed record RenewalPolicy(double After = 2.0 / 3.0, bool NewKey = true, bool Automatic = true)
{
    /// <summary>Renewals are spread over this part of the life, so that certificates issued together do not fall due together.</summary>
    public const double Jitter = 0.05;

    /// <summary>The planned moment: after <see cref="After"/> of the life, plus a jitter that is the same each time it is asked for.</summary>
    /// <param name="handle">What tells this edition from others, as its serial number.</param>
    public DateTimeOffset PlannedFor(DateTimeOffset notBefore, DateTimeOffset notAfter, string handle)
    {
        var life = notAfter - notBefore;
        var after = Math.Clamp(After, 0.05, 0.95);
        var spread =
            Math.Min(Jitter, (1 - after) / 2)
            * (BitConverter.ToUInt32(SHA256.HashData(Encoding.UTF8.GetBytes(handle)), 0) / (double)uint.MaxValue);
        return notBefore + life * (after + spread);
    }

    /// <summary>
    /// When to try again after a failure: first after a hundredth of the life (5 seconds to 15 minutes), doubling each time,
    /// but always at least twice more before the end.
    /// </summary>
    public static DateTimeOffset RetryAt(DateTimeOffset now, DateTimeOffset notBefore, DateTimeOffset notAfter, int failures)
    {
        var first = Clamp((notAfter - notBefore) / 100, TimeSpan.FromSeconds(5), TimeSpan.FromMinutes(15));
        var wait = first * Math.Pow(2, Math.Clamp(failures - 1, 0, 12));
        var left = notAfter - now;
        if (left > TimeSpan.Zero && wait > left / 3)
            wait = left / 3;
        return now + Clamp(wait, TimeSpan.FromSeconds(5), TimeSpan.FromHours(12));
    }

    private static TimeSpan Clamp(TimeSpan value, TimeSpan least, TimeSpan most)
    {
        if (value < least)
            return least;
        if (value > most)
            return most;
        return value;
    }
}

/// <summary>Where a certificate stands in its life.</summary>
public enum LifePhase
{
    /// <summary>Before its planned renewal.</summary>
    Fresh,

    /// <summary>Inside its renewal window.</summary>
    Due,

    /// <summary>Past its end.</summary>
    Expired,
}

public static class Life
{
    public static LifePhase PhaseOf(DateTimeOffset now, DateTimeOffset planned, DateTimeOffset notAfter)
    {
        if (now > notAfter)
            return LifePhase.Expired;
        if (now >= planned)
            return LifePhase.Due;
        return LifePhase.Fresh;
    }
}
