using Microsoft.AspNetCore.Http.HttpResults;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.People;

internal static class PersonEndpoints
{
    public static void MapPeople(this RouteGroupBuilder api)
    {
        var g = api.MapGroup("").WithTags("People");
        g.MapSession();
        g.MapGet(
                "/people",
                async (BeaconDb db, SignInThrottle throttle, CancellationToken ct) =>
                    TypedResults.Ok(
                        (await db.People.AsNoTracking().OrderBy(p => p.Name).Take(1000).ToListAsync(ct))
                            .Select(p => Info(p, throttle))
                            .ToList()
                    )
            )
            .Is(Operation.ListPeople);
        g.MapPost(
                "/people",
                async (NewPerson body, ChangePeople change, SignInThrottle throttle, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(Info(await change.AddAsync(body, caller, ct), throttle))
            )
            .Is(Operation.AddPerson);
        g.MapPost(
                "/people/{name}/unlock",
                async (string name, ChangePeople change, Caller caller, CancellationToken ct) =>
                {
                    await change.UnlockAsync(name, caller, ct);
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.UnlockPerson);
        g.MapPut(
                "/people/{name}/groups",
                async (string name, NewGroups body, ChangePeople change, SignInThrottle throttle, Caller caller, CancellationToken ct) =>
                    TypedResults.Ok(Info(await change.RegroupAsync(name, body.Groups, caller, ct), throttle))
            )
            .Is(Operation.RegroupPerson);
        g.MapPut(
                "/people/{name}/password",
                async (string name, NewPassword body, ChangePeople change, Caller caller, CancellationToken ct) =>
                {
                    await change.ResetPasswordAsync(name, body.New, caller, ct);
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.ResetPassword);
        g.MapDelete(
                "/people/{name}",
                async (string name, ChangePeople change, Caller caller, CancellationToken ct) =>
                {
                    await change.RemoveAsync(name, caller, ct);
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.RemovePerson);
        MapConsents(g);
    }

    private static void MapConsents(RouteGroupBuilder g)
    {
        g.MapGet("/consents", async (Consents consents, CancellationToken ct) => TypedResults.Ok(await consents.ListAsync(ct)))
            .Is(Operation.ListConsents);
        g.MapPost(
                "/consents/{number:long}",
                async (long number, Consents consents, Caller caller, CancellationToken ct) =>
                {
                    await consents.GiveAsync(number, caller, ct);
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.GiveConsent);
    }

    private static void MapSession(this RouteGroupBuilder g)
    {
        g.MapGet(
                "/session/ways",
                async (Tickets tickets, DirectoryBook directory, CancellationToken ct) =>
                    TypedResults.Ok(new WaysIn(tickets.AreTaken, await directory.DomainAsync(ct)))
            )
            .Is(Operation.GetWaysIn);
        g.MapPost("/session", SignInAsync).Is(Operation.SignIn).AnswersSecret();
        g.MapPost("/session/ticket", SignInByTicketAsync).Is(Operation.SignInByTicket).AnswersSecret();
        g.MapPost(
                "/session/confirm",
                async (ConfirmSignIn body, SignInDesk desk, Caller caller, HttpContext context, CancellationToken ct) =>
                {
                    await desk.CheckPasswordAsync(caller.Name, body.Password, Lanes.SourceOf(context), ct);
                    await desk.ProveAsync(caller.SessionHash ?? "", ct);
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.ConfirmSignIn);
        g.MapGet(
                "/session",
                (Caller caller, BeaconOptions options, Offers offers) =>
                    TypedResults.Ok(
                        new Session(caller.Name, caller.Groups, DateTimeOffset.MaxValue, null)
                        {
                            SecondPerson = options.SecondPerson,
                            Denied = offers.Of(caller.Who),
                        }
                    )
            )
            .Is(Operation.GetSession);
        g.MapPut(
                "/session/password",
                async (NewPassword body, ChangePeople change, Caller caller, HttpContext context, CancellationToken ct) =>
                {
                    await change.ChangeOwnPasswordAsync(body, caller, Lanes.SourceOf(context), ct);
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.ChangePassword);
        g.MapDelete(
                "/session",
                async (SignInDesk desk, HttpContext context, CancellationToken ct) =>
                {
                    if (BeaconAuthentication.Token(context.Request) is { } token)
                        await desk.CloseSessionAsync(token, ct);
                    context.Response.Cookies.Delete(BeaconAuthentication.Cookie, new() { Secure = true, Path = "/" });
                    return TypedResults.NoContent();
                }
            )
            .Is(Operation.SignOut);
    }

    private static async Task<Ok<Session>> SignInAsync(
        SignIn body,
        SignInDesk desk,
        BeaconOptions options,
        Offers offers,
        HttpContext context,
        CancellationToken ct
    )
    {
        var person = await desk.CheckPasswordAsync(body.Name, body.Password, Lanes.SourceOf(context), ct);
        return await OpenAsync(person, body.Kind, isProved: true, desk, options, offers, context);
    }

    /// <summary>By a Kerberos ticket. It is no proof that the person sits there now: what wants a fresh one asks for the password.</summary>
    private static async Task<Ok<Session>> SignInByTicketAsync(
        TicketSignIn body,
        SignInDesk desk,
        DomainPeople domain,
        Tickets tickets,
        BeaconOptions options,
        Offers offers,
        HttpContext context
    )
    {
        if (tickets.AreTaken && !Tickets.IsShown(context.Request))
        {
            Tickets.Challenge(context.Response);
            throw new BeaconProblem(
                ProblemCode.NotSignedIn,
                "A Kerberos ticket is asked for.",
                "Get one with kinit, and call with HTTP Negotiate."
            );
        }
        var holder = await tickets.AcceptAsync(context);
        if (holder.IsComputer)
            throw new BeaconProblem(
                ProblemCode.TicketRefused,
                $"{holder.Account} is a computer; computers join and enrol, and do not sign in.",
                "Use a person's account: kinit NAME."
            );
        var person = await domain.FindAsync(holder.Name, context.RequestAborted);
        return await OpenAsync(person, body.Kind, isProved: false, desk, options, offers, context);
    }

    private static async Task<Ok<Session>> OpenAsync(
        Person person,
        string kind,
        bool isProved,
        SignInDesk desk,
        BeaconOptions options,
        Offers offers,
        HttpContext context
    )
    {
        var ct = context.RequestAborted;
        var (token, until) = await desk.OpenSessionAsync(person, isProved, ct);
        var caller = await desk.CallerOfAsync(person, ct);
        var cookie = kind == "cookie";
        if (cookie)
            context.Response.Cookies.Append(BeaconAuthentication.Cookie, token, CookieUntil(until));
        var session = new Session(person.Name, caller.Groups, until, cookie ? null : token)
        {
            SecondPerson = options.SecondPerson,
            Denied = offers.Of(caller.Who),
        };
        return TypedResults.Ok(session);
    }

    private static CookieOptions CookieUntil(DateTimeOffset until) =>
        new()
        {
            HttpOnly = true,
            Secure = true,
            SameSite = SameSiteMode.Strict,
            Path = "/",
            Expires = until,
        };

    private static PersonInfo Info(Person p, SignInThrottle throttle) =>
        new(p.Name, p.GroupList, throttle.IsPaused(p.Name)) { Left = p.LeftAt };
}
