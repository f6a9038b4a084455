using System.Collections.Concurrent;
using System.Globalization;
using System.Net;
using System.Text;
using System.Threading.RateLimiting;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.People;

namespace OrderlyBeacon.Service;

/// <summary>
/// Load has lanes, so that what is dear never stands before lists, answers, health and agents. Who is over a limit is told when to come again, before anything is read or
/// worked out. The limits stand in docs/guide/service.md, what was turned away in /metrics.
/// </summary>
internal static class Lanes
{
    /// <summary>Sign-ins: by the address that they come from.</summary>
    public const string SignIns = "sign-ins";

    /// <summary>Reports over everything and whatever signs for its own sake: a few at a time for each caller.</summary>
    public const string Dear = "dear";

    /// <summary>Enrolments: many at a time, but not without end.</summary>
    public const string Enrolments = "enrolments";

    /// <summary>What agents write: a few at a time for each, so that none stands before all others.</summary>
    public const string Agents = "agents";

    /// <summary>What a host says that is new: <see cref="Hosts.NewsLimit"/>.</summary>
    public const string News = "news";

    /// <summary>The lane of each operation that has one.</summary>
    public static string? Of(Operation operation) =>
        operation switch
        {
            Operation.SignIn or Operation.SignInByTicket or Operation.ConfirmSignIn or Operation.ChangePassword => SignIns,
            Operation.GetToday
            or Operation.GetLookahead
            or Operation.RehearseRenewal
            or Operation.Look
            or Operation.LookFromService
            or Operation.MeetHost
            or Operation.CheckHealth
            or Operation.IssueCrl
            or Operation.ChangeProfile
            or Operation.ImportProfile
            or Operation.CompareProfileRevisions
            or Operation.ExportProfile
            or Operation.FindEditions
            or Operation.RevokeMany
            or Operation.TakeAnswer
            or Operation.ImportToStore
            or Operation.ExportEntry
            or Operation.ExportKey
            or Operation.TakeBackup => Dear,
            Operation.SubmitRequest or Operation.PreviewRequest or Operation.RenewCertificate or Operation.AgentCsr => Enrolments,
            Operation.AgentReport or Operation.AgentStep or Operation.AgentResult => Agents,
            _ => null,
        };

    private const int DearAtATime = 4,
        EnrolmentsAtATime = 64,
        AgentsAtATime = 4,
        AgentsWaiting = 100;

    private static readonly ConcurrentDictionary<string, long> TurnedAway = new();

    /// <summary>Marks an endpoint with its lane.</summary>
    private sealed record LaneMark(string Lane);

    public static TBuilder InLane<TBuilder>(this TBuilder endpoint, string lane)
        where TBuilder : IEndpointConventionBuilder => endpoint.WithMetadata(new LaneMark(lane));

    /// <summary>Lets a call in when its lane has room for its caller.</summary>
    public static void UseLanes(this WebApplication app, BeaconOptions options)
    {
        var signIns = new PerCaller(() =>
            new TokenBucketRateLimiter(
                new()
                {
                    TokenLimit = options.SignInsPerMinute,
                    TokensPerPeriod = Math.Max(1, options.SignInsPerMinute / 6),
                    ReplenishmentPeriod = TimeSpan.FromSeconds(10),
                    AutoReplenishment = false,
                }
            )
        );
        var dear = new PerCaller(() => AtATime(DearAtATime, DearAtATime));
        var enrolments = new PerCaller(() => AtATime(EnrolmentsAtATime, EnrolmentsAtATime * 2));
        var agents = new PerCaller(() => AtATime(AgentsAtATime, AgentsWaiting));
        app.Use(
            async (context, next) =>
            {
                if (context.GetEndpoint()?.Metadata.GetMetadata<LaneMark>() is not { Lane: var lane })
                {
                    await next();
                    return;
                }
                var entering = lane switch
                {
                    SignIns => signIns.EnterAsync(SourceOf(context), context.RequestAborted),
                    Dear => dear.EnterAsync(CallerOf(context), context.RequestAborted),
                    Agents => agents.EnterAsync(CallerOf(context), context.RequestAborted),
                    _ => enrolments.EnterAsync(CallerOf(context), context.RequestAborted),
                };
                using var lease = await entering;
                if (lease.IsAcquired)
                    await next();
                else
                    await TurnAwayAsync(context, lane, lease);
            }
        );
    }

    private static ConcurrencyLimiter AtATime(int most, int queue) =>
        new(
            new()
            {
                PermitLimit = most,
                QueueLimit = queue,
                QueueProcessingOrder = QueueProcessingOrder.OldestFirst,
            }
        );

    /// <summary>The address that a call comes from; of IPv6 the network, since whoever has one address there has them all.</summary>
    public static string SourceOf(HttpContext context)
    {
        var ip = context.Connection.RemoteIpAddress ?? IPAddress.None;
        if (ip.IsIPv4MappedToIPv6)
            ip = ip.MapToIPv4();
        return ip.GetAddressBytes() is { Length: 16 } bytes ? Convert.ToHexString(bytes, 0, 8) : ip.ToString();
    }

    private static string CallerOf(HttpContext context) =>
        context.User.Identity is { IsAuthenticated: true, Name: { } name } ? "caller " + name : SourceOf(context);

    /// <summary>A call was turned away.</summary>
    internal static void Count(string lane) => TurnedAway.AddOrUpdate(lane, 1, (_, n) => n + 1);

    private static Task TurnAwayAsync(HttpContext context, string lane, RateLimitLease lease)
    {
        Count(lane);
        var after = lease.TryGetMetadata(MetadataName.RetryAfter, out var wait) ? wait : TimeSpan.FromSeconds(5);
        context.Response.Headers.RetryAfter = Math.Max(1, (int)Math.Ceiling(after.TotalSeconds)).ToString(CultureInfo.InvariantCulture);
        return Problems.WriteAsync(
            context,
            new BeaconProblem(
                ProblemCode.TooBusy,
                "Too many such calls came from here in a short time.",
                "Wait as long as Retry-After says, then repeat."
            )
        );
    }

    /// <summary>What was turned away, in OpenMetrics text.</summary>
    public static void Write(StringBuilder text)
    {
        text.Append("# TYPE beacon_turned_away counter\n# HELP beacon_turned_away Calls that a lane's limit turned away\n");
        foreach (var lane in new[] { SignIns, Dear, Enrolments, Agents, News })
            text.Append(
                CultureInfo.InvariantCulture,
                $"beacon_turned_away_total{{lane=\"{lane}\"}} {TurnedAway.GetValueOrDefault(lane)}\n"
            );
    }
}

/// <summary>A limiter for each caller. Nothing here has a timer: what time gives back is counted when somebody calls, so that an idle service sleeps.</summary>
internal sealed class PerCaller(Func<RateLimiter> make)
{
    private const int Few = 256;
    private readonly ConcurrentDictionary<string, RateLimiter> _limiters = [];
    private int _forgetAt = Few;

    public ValueTask<RateLimitLease> EnterAsync(string caller, CancellationToken ct) => Of(caller).AcquireAsync(1, ct);

    /// <summary>Without waiting.</summary>
    /// <param name="room">How much of the caller's room it takes.</param>
    public RateLimitLease Enter(string caller, int room) => Of(caller).AttemptAcquire(room);

    private RateLimiter Of(string caller)
    {
        if (_limiters.Count > Volatile.Read(ref _forgetAt))
            ForgetIdle();
        var limiter = _limiters.GetOrAdd(caller, _ => make());
        (limiter as ReplenishingRateLimiter)?.TryReplenish();
        return limiter;
    }

    /// <summary>Who has all of their room again is as somebody new.</summary>
    private void ForgetIdle()
    {
        foreach (var (caller, limiter) in _limiters)
        {
            (limiter as ReplenishingRateLimiter)?.TryReplenish();
            if (limiter.IdleDuration is not null)
                _limiters.TryRemove(new(caller, limiter));
        }
        // Looking through all is paid for by as many new callers.
        Volatile.Write(ref _forgetAt, Math.Max(Few, _limiters.Count * 2));
    }
}
