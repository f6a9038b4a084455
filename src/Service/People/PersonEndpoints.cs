using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.People;

internal static class PersonEndpoints
{
    public static void MapPeople(this RouteGroupBuilder api)
    {
        api.MapPost(
                "/session",
                async (SignIn body, SignInDesk desk, HttpContext context, CancellationToken ct) =>
                {
                    var person = await desk.CheckPasswordAsync(body.Name, body.Password, ct);
                    var (token, until) = await desk.OpenSessionAsync(person, ct);
                    var cookie = body.Kind == "cookie";
                    if (cookie)
                        context.Response.Cookies.Append(
                            BeaconAuthentication.Cookie,
                            token,
                            new()
                            {
                                HttpOnly = true,
                                Secure = true,
                                SameSite = SameSiteMode.Strict,
                                Path = "/",
                                Expires = until,
                            }
                        );
                    return TypedResults.Ok(new Session(person.Name, person.GroupList, until, cookie ? null : token));
                }
            )
            .AllowAnonymous()
            .WithName("signIn")
            .WithTags("People");

        api.MapGet("/session", (Caller caller) => TypedResults.Ok(new Session(caller.Name, caller.Groups, DateTimeOffset.MaxValue, null)))
            .WithName("getSession")
            .WithTags("People");

        api.MapDelete(
                "/session",
                async (SignInDesk desk, HttpContext context, CancellationToken ct) =>
                {
                    if (BeaconAuthentication.Token(context.Request) is { } token)
                        await desk.CloseSessionAsync(token, ct);
                    context.Response.Cookies.Delete(BeaconAuthentication.Cookie, new() { Secure = true, Path = "/" });
                    return TypedResults.NoContent();
                }
            )
            .WithName("signOut")
            .WithTags("People");

        api.MapGet(
                "/people",
                async (BeaconDb db, TimeProvider clock, CancellationToken ct) =>
                    TypedResults.Ok(
                        (await db.People.AsNoTracking().OrderBy(p => p.Name).ToListAsync(ct))
                            .Select(p => new PersonInfo(p.Name, p.GroupList, p.LockedUntil > clock.GetUtcNow()))
                            .ToList()
                    )
            )
            .RequireAuthorization(Policies.Administrator)
            .WithName("listPeople")
            .WithTags("People");

        api.MapPost(
                "/people",
                async (NewPerson body, BeaconDb db, SignInDesk desk, Caller caller, TimeProvider clock, CancellationToken ct) =>
                {
                    var person = Person.Of(body.Name, desk.Hash(body.Password), body.Groups);
                    await using var write = await db.BeginWriteAsync(ct);
                    if (await db.People.AnyAsync(p => p.Name == person.Name, ct))
                        throw new BeaconProblem(
                            ProblemCode.AlreadyExists,
                            $"There is a person {person.Name} already.",
                            "Choose another name."
                        );
                    db.People.Add(person);
                    await db.Note(clock.GetUtcNow(), caller.Actor, "person.added", person.Name, "groups " + person.Groups);
                    await write.CommitAsync(ct);
                    return TypedResults.Ok(new PersonInfo(person.Name, person.GroupList, false));
                }
            )
            .RequireAuthorization(Policies.Administrator)
            .WithName("addPerson")
            .WithTags("People");
    }
}
