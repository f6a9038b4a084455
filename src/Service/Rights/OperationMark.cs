using System.Text.Json;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Rights;

namespace OrderlyBeacon.Service.Rights;

/// <summary>Says which operation an endpoint is.</summary>
public sealed record OperationMark(Operation Operation);

/// <summary>An answer that holds a secret: it is never kept.</summary>
public sealed record SecretAnswer;

internal static class OperationMarks
{
    /// <summary>Names an endpoint by its operation: in the OpenAPI document, for <see cref="RightsTable"/> and for its lane.</summary>
    public static TBuilder Is<TBuilder>(this TBuilder endpoint, Operation operation)
        where TBuilder : IEndpointConventionBuilder
    {
        if (Lanes.Of(operation) is { } lane)
            endpoint.InLane(lane);
        return endpoint.WithMetadata(new OperationMark(operation)).WithName(IdOf(operation));
    }

    /// <summary>An operation's name in the OpenAPI document.</summary>
    public static string IdOf(Operation operation) => JsonNamingPolicy.CamelCase.ConvertName(operation.ToString());

    public static TBuilder AnswersSecret<TBuilder>(this TBuilder endpoint)
        where TBuilder : IEndpointConventionBuilder => endpoint.WithMetadata(new SecretAnswer());
}

/// <summary>Asks <see cref="RightsTable"/> before each call: the role, then for what outlasts a session how fresh the proof is and whether a second person consents.</summary>
internal static class RightsGate
{
    public static void UseRights(this WebApplication app, BeaconOptions options) =>
        app.Use(
            async (context, next) =>
            {
                var endpoint = context.GetEndpoint();
                if (endpoint?.Metadata.GetMetadata<OperationMark>() is not { Operation: var operation })
                {
                    if (IsOurs(endpoint))
                        throw new BeaconProblem(
                            ProblemCode.Internal,
                            "This call is not in the table of rights.",
                            "Report it; it is refused until it is there."
                        );
                    await next();
                    return;
                }
                var caller = People.Caller.Of(context.User);
                if (RightsOf.Role(operation, caller.Who, options.Holdings.Groups) is { } denial)
                    throw denial.Problem;
                if (RightsTable.Of(operation).Fresh)
                {
                    ThrowUnlessFresh(caller, options, context.RequestServices.GetRequiredService<TimeProvider>());
                    if (options.SecondPerson && operation != Operation.GiveConsent)
                        await context.RequestServices.GetRequiredService<Consents>().ThrowUnlessGivenAsync(context, operation, caller);
                }
                try
                {
                    await next();
                }
                catch (RefusedAttempt attempt)
                {
                    await context.RequestServices.GetRequiredService<MayAct>().NoteAsync(attempt);
                    throw;
                }
            }
        );

    private static bool IsOurs(Endpoint? endpoint) =>
        endpoint is RouteEndpoint { RoutePattern.RawText: { } path } && path.StartsWith("/api/v1", StringComparison.Ordinal);

    private static void ThrowUnlessFresh(People.Caller caller, BeaconOptions options, TimeProvider clock)
    {
        if (caller.ProvedAt is not { } at || clock.GetUtcNow() - at > options.Freshness)
            throw new BeaconProblem(
                ProblemCode.SignInAgain,
                $"What this does outlasts a sign-in: it wants your password of the last {options.FreshMinutes:0.#} minutes.",
                "Give it again: beacon sign-in confirm; the console asks for it."
            );
    }

    /// <summary>Every endpoint under the API is an operation, once, and each operation that people or agents can ask for has an endpoint.</summary>
    /// <exception cref="InvalidOperationException">One has none: the service does not start.</exception>
    public static void CheckRights(this WebApplication app)
    {
        var endpoints = ((IEndpointRouteBuilder)app).DataSources.SelectMany(s => s.Endpoints).OfType<RouteEndpoint>();
        foreach (var e in endpoints.Where(IsOurs))
            if (e.Metadata.GetMetadata<OperationMark>() is not { } mark || !RightsTable.All.ContainsKey(mark.Operation))
                throw new InvalidOperationException($"{e.RoutePattern.RawText} is not in the table of rights.");
    }
}
