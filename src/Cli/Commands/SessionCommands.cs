using System.CommandLine;
using System.Text;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

internal static class SessionCommands
{
    public static IEnumerable<Command> All() => [SignIn(), SignOut(), People(), Consents(), Completion()];

    private static Command SignIn()
    {
        var service = new Option<string>("--service") { Description = "Address of the service, for example https://beacon.example:7443." };
        var name = new Option<string>("--name") { Description = "Your name there." };
        var root = new Option<string?>("--root")
        {
            Description = "PEM file of its root. Without it the root's fingerprint is shown and you are asked.",
        };
        var passwordFile = new Option<string?>("--password-file")
        {
            Description = "File with the password; - reads standard input. Without it you are asked.",
        };
        var ticket = new Option<bool>("--ticket") { Description = "By your Kerberos ticket (kinit), without a password." };
        var c = new Command("sign-in", "Sign in; the token is kept in your own folder (0600).")
        {
            service,
            name,
            ticket,
            root,
            passwordFile,
        };
        c.Add(Confirm());
        c.Does(
            async (r, ct) =>
            {
                if (r.GetValue(service) is null || (r.GetValue(name) is null && !r.GetValue(ticket)))
                    throw new BeaconProblem(
                        ProblemCode.InputInvalid,
                        "The address of the service or your name is missing.",
                        "Give --service https://HOST:PORT and --name YOU, or --ticket where you have a Kerberos ticket."
                    );
                var address = r.GetValue(service)!.TrimEnd('/');
                if (!Uri.TryCreate(address, UriKind.Absolute, out var uri) || uri.Scheme != "https")
                    throw new BeaconProblem(
                        ProblemCode.InputInvalid,
                        $"\"{address}\" is no address of a service.",
                        "Write it as https://HOST:PORT."
                    );
                var pem = r.GetValue(root) is { } f ? await File.ReadAllTextAsync(f, ct) : await AskRootAsync(address, ct);
                using var api = new Api(address, pem, null);
                var s = r.GetValue(ticket)
                    ? await api.SignInByTicketAsync(ct)
                    : await SignInAsync(api, r.GetValue(name)!, r.GetValue(passwordFile), ct);
                new Session(address, s.Name, pem, s.Token!, s.Until).Save();
                Line($"Signed in at {address} as {s.Name} until {s.Until.UtcDateTime:d MMM HH:mm} UTC.");
                return 0;
            }
        );
        return c;
    }

    private static async Task<Contracts.Session> SignInAsync(Api api, string name, string? passwordFile, CancellationToken ct)
    {
        var password = await PasswordAsync(passwordFile, "Password: ", ct);
        var answer = await api.PostAsync("/api/v1/session", new SignIn(name, password, "token"), BeaconJson.Default.SignIn, ct);
        return Api.Read(answer, BeaconJson.Default.Session);
    }

    private static async Task<string> PasswordAsync(string? file, string prompt, CancellationToken ct) =>
        file switch
        {
            null => Secrets.Ask(prompt, "--password-file FILE, or - for standard input"),
            "-" => (await Console.In.ReadLineAsync(ct) ?? "").Trim(),
            _ => (await File.ReadAllTextAsync(file, ct)).Trim(),
        };

    private static Option<string?> PasswordFile(string whose) =>
        new("--password-file") { Description = $"File with {whose} password; - reads standard input. Without it you are asked." };

    /// <summary>What outlasts a sign-in wants the password of the last minutes: given here, it is proof for those calls.</summary>
    private static Command Confirm()
    {
        var passwordFile = PasswordFile("your");
        var c = new Command("confirm", "Give your password once more: for a few minutes you may do what outlasts a sign-in.")
        {
            passwordFile,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                await api.ConfirmAsync(await PasswordAsync(r.GetValue(passwordFile), "Password: ", ct), ct);
                Line("Confirmed.");
                return ExitCodes.Done;
            }
        );
        return c;
    }

    private static async Task<string> AskRootAsync(string address, CancellationToken ct)
    {
        using var http = Api.Client(address, null);
        byte[] body;
        try
        {
            body = Convert.FromBase64String(await http.GetStringAsync("/.well-known/est/server/cacerts", ct));
        }
        catch (HttpRequestException e)
        {
            throw new BeaconProblem(
                ProblemCode.Unreachable,
                $"{address} cannot be reached: {(e.InnerException ?? e).Message}",
                "Check the address.",
                e
            );
        }
        var x =
            Pkcs7.ReadCertificates(body).Select(X509.Read).FirstOrDefault(x => x.IsSelfSigned)
            ?? throw new BeaconProblem(
                ProblemCode.AuthorityNotReady,
                $"{address} has no root yet: its authority waits for its certificate.",
                "Get root.pem from its data folder and give it with --root."
            );
        await Console.Error.WriteAsync(
            $"Its root is {x.Subject}\n  SHA-256 fingerprint {x.Thumbprint}\nCompare this with what the service's administrator told you. Trust it? [y/N] "
        );
        if ((await Console.In.ReadLineAsync(ct))?.Trim().ToLowerInvariant() is not ("y" or "yes"))
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                "The root is not trusted.",
                "Get the root's PEM file from the administrator and give it with --root."
            );
        return Armor.Write(Armor.Certificate, x.Der.Span);
    }

    private static Command SignOut()
    {
        var c = new Command("sign-out", "End the sign-in here and at the service.");
        c.Does(
            async (_, ct) =>
            {
                using (var api = Api.SignedIn())
                {
                    try
                    {
                        using var answer = await api.ProvenAsync(() => new(HttpMethod.Delete, "/api/v1/session"), ct);
                    }
                    catch (BeaconProblem p) when (p.Code is ProblemCode.NotSignedIn or ProblemCode.Unreachable) { }
                }
                Session.Forget();
                Line("Signed out.");
                return 0;
            }
        );
        return c;
    }

    private static Command People()
    {
        var list = new Command("list", "Who may sign in.");
        list.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.TextAsync("/api/v1/people", ct);
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return 0;
                }
                Table(
                    ["Name", "Groups", ""],
                    Api.Read(json, BeaconJson.Default.ListPersonInfo)
                        .Select(p =>
                            new Ink[]
                            {
                                p.Name,
                                string.Join(", ", p.Groups),
                                p switch
                                {
                                    { Left: { } left } => (Ink)$"left on {left.UtcDateTime:d MMM yyyy}",
                                    { Locked: true } => Yellow("◐") + " paused after wrong passwords",
                                    _ => Green("○") + " can sign in",
                                },
                            }
                        ),
                    "Nobody."
                );
                return 0;
            }
        );
        var name = new Argument<string>("name") { Description = "A name to sign in with." };
        var groups = new Option<string[]>("--group")
        {
            Description = "administrators, approvers, or a group that holds a zone; repeat it for more.",
            AllowMultipleArgumentsPerToken = true,
        };
        var passwordFile = new Option<string>("--password-file")
        {
            Description = "File with the first password; - reads standard input.",
            Required = true,
        };
        var add = new Command("add", "Let somebody sign in.") { name, groups, passwordFile };
        add.Does(
            async (r, ct) =>
            {
                var password = r.GetValue(passwordFile) is "-"
                    ? (await Console.In.ReadLineAsync(ct) ?? "").Trim()
                    : (await File.ReadAllTextAsync(r.GetValue(passwordFile)!, ct)).Trim();
                using var api = Api.SignedIn();
                var json = await api.PostAsync(
                    "/api/v1/people",
                    new NewPerson(r.GetValue(name)!, password, r.GetValue(groups) ?? []),
                    BeaconJson.Default.NewPerson,
                    ct
                );
                if (r.GetValue(Program.Json))
                    Json(json);
                else
                    Line($"{r.GetValue(name)} can sign in.");
                return 0;
            }
        );
        return new("person", "Who may sign in.") { list, add, Unlock(name), Regroup(name), Password(), Remove(name) };
    }

    private static Command Unlock(Argument<string> name)
    {
        var c = new Command("unlock", "End the pause after too many wrong passwords.") { name };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                using var _ = await api.ProvenAsync(
                    () => new(HttpMethod.Post, $"/api/v1/people/{Api.Escape(r.GetValue(name)!)}/unlock"),
                    ct
                );
                Line($"{r.GetValue(name)} can try again now.");
                return ExitCodes.Done;
            }
        );
        return c;
    }

    private static Command Regroup(Argument<string> name)
    {
        var groups = new Option<string[]>("--group")
        {
            Description = "A group; give all that they shall be in. None puts them into none.",
            AllowMultipleArgumentsPerToken = true,
        };
        var c = new Command("regroup", "Put somebody into these groups, and out of all others. It holds from their next call on.")
        {
            name,
            groups,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.PutAsync(
                    $"/api/v1/people/{Api.Escape(r.GetValue(name)!)}/groups",
                    new NewGroups(r.GetValue(groups) ?? []),
                    BeaconJson.Default.NewGroups,
                    ct
                );
                if (r.GetValue(Program.Json))
                    Json(json);
                else
                    Line($"{r.GetValue(name)} is in {(r.GetValue(groups) is { Length: > 0 } g ? string.Join(", ", g) : "no group")} now.");
                return ExitCodes.Done;
            }
        );
        return c;
    }

    private static Command Password()
    {
        var name = new Argument<string?>("name") { Description = "Whose; your own when left out.", Arity = ArgumentArity.ZeroOrOne };
        var passwordFile = PasswordFile("the new");
        var oldFile = new Option<string?>("--old-password-file") { Description = "File with your password so far." };
        var c = new Command("password", "Set a new password; sessions that the old one opened end.") { name, passwordFile, oldFile };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                if (r.GetValue(name) is { } whose)
                {
                    var set = await PasswordAsync(r.GetValue(passwordFile), $"New password of {whose}: ", ct);
                    await api.PutAsync(
                        $"/api/v1/people/{Api.Escape(whose)}/password",
                        new NewPassword(null, set),
                        BeaconJson.Default.NewPassword,
                        ct
                    );
                    Line($"{whose} signs in with the new password from now on.");
                    return ExitCodes.Done;
                }
                var old = await PasswordAsync(r.GetValue(oldFile), "Password so far: ", ct);
                var next = await PasswordAsync(r.GetValue(passwordFile), "New password: ", ct);
                await api.PutAsync("/api/v1/session/password", new NewPassword(old, next), BeaconJson.Default.NewPassword, ct);
                Line("Your password is changed; your other sessions have ended.");
                return ExitCodes.Done;
            }
        );
        return c;
    }

    private static Command Remove(Argument<string> name)
    {
        var c = new Command(
            "remove",
            "Somebody leaves: sessions and open approvals end, the name is never given again. What they own wants another owner."
        )
        {
            name,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                using var _ = await api.ProvenAsync(() => new(HttpMethod.Delete, $"/api/v1/people/{Api.Escape(r.GetValue(name)!)}"), ct);
                Line($"{r.GetValue(name)} has left. Give what they owned to others: beacon cert give CERTIFICATE --to OWNER");
                return ExitCodes.Done;
            }
        );
        return c;
    }

    private static Command Consents()
    {
        var list = new Command("list", "What administrators want to do that a second one must consent to, newest first.");
        list.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.TextAsync("/api/v1/consents", ct);
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return ExitCodes.Done;
                }
                Table(
                    ["No.", "By", "State", "What"],
                    Api.Read(json, BeaconJson.Default.ListConsentInfo)
                        .Select(c => new Ink[] { $"{c.Number}", c.By, StateOf(c), $"{c.Operation.Replace('-', ' ')}: {c.About} {c.Body}" }),
                    "Nothing waits for a second person."
                );
                return ExitCodes.Done;
            }
        );
        var number = new Argument<long>("number") { Description = "The consent's number." };
        var give = new Command("give", "Consent to what another administrator wants to do; they then do it.") { number };
        give.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                using var _ = await api.ProvenAsync(() => new(HttpMethod.Post, $"/api/v1/consents/{r.GetValue(number)}"), ct);
                Line($"You consented to {r.GetValue(number)}. It can be done once, within the hour.");
                return ExitCodes.Done;
            }
        );
        return new("consent", "Second persons: what one administrator alone may not do.") { list, give };
    }

    private static string StateOf(ConsentInfo c)
    {
        if (c.Used)
            return "done";
        if (c.Until < DateTimeOffset.UtcNow)
            return "expired";
        if (c.ConsentedBy is { } by)
            return $"consented by {by}";
        return "waiting";
    }

    private static Command Completion()
    {
        var shell = new Argument<string>("shell") { Description = "bash or zsh." };
        shell.AcceptOnlyFromAmong("bash", "zsh");
        var c = new Command("completion", "Print a completion script: eval \"$(beacon completion bash)\".") { shell };
        c.SetAction(r =>
            Console.Out.WriteLine(
                (r.GetValue(shell) == "zsh" ? "autoload -U +X bashcompinit && bashcompinit\n" : "")
                    + """
                    _beacon_complete() {
                      local line=${COMP_LINE:0:$COMP_POINT}
                      COMPREPLY=()
                      while IFS= read -r word; do [[ $word == "${COMP_WORDS[COMP_CWORD]}"* ]] && COMPREPLY+=("$word"); done < <("${COMP_WORDS[0]}" "[suggest:$COMP_POINT]" "$line" 2>/dev/null)
                    }
                    complete -F _beacon_complete beacon ./beacon
                    """
            )
        );
        return c;
    }
}
