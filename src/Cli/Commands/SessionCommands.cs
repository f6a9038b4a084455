using System.CommandLine;
using System.Text;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

internal static class SessionCommands
{
    public static IEnumerable<Command> All() => [SignIn(), SignOut(), People(), Completion()];

    private static Command SignIn()
    {
        var service = new Option<string>("--service")
        {
            Description = "Address of the service, as https://beacon.example:7443.",
            Required = true,
        };
        var name = new Option<string>("--name") { Description = "Your name there.", Required = true };
        var root = new Option<string?>("--root")
        {
            Description = "PEM file of its root. Without it the root's fingerprint is shown and you are asked.",
        };
        var passwordFile = new Option<string?>("--password-file")
        {
            Description = "File with the password; - reads standard input. Without it you are asked.",
        };
        var c = new Command("sign-in", "Sign in; the token is kept in your own folder (0600).") { service, name, root, passwordFile };
        c.Does(
            async (r, ct) =>
            {
                var address = r.GetValue(service)!.TrimEnd('/');
                if (!Uri.TryCreate(address, UriKind.Absolute, out var uri) || uri.Scheme != "https")
                    throw new BeaconProblem(
                        ProblemCode.InputInvalid,
                        $"\"{address}\" is no address of a service.",
                        "Write it as https://HOST:PORT."
                    );
                var pem = r.GetValue(root) is { } f ? await File.ReadAllTextAsync(f, ct) : await AskRootAsync(address, ct);
                var password = r.GetValue(passwordFile) switch
                {
                    null => Secrets.Ask("Password: ", "--password-file FILE, or - for standard input"),
                    "-" => (await Console.In.ReadLineAsync(ct) ?? "").Trim(),
                    var p => (await File.ReadAllTextAsync(p, ct)).Trim(),
                };
                using var api = new Api(address, pem, null);
                var s = Api.Read(
                    await api.PostAsync("/api/v1/session", new SignIn(r.GetValue(name)!, password, "token"), BeaconJson.Default.SignIn, ct),
                    BeaconJson.Default.Session
                );
                new Session(address, s.Name, pem, s.Token!, s.Until).Save();
                Line($"Signed in at {address} as {s.Name} until {s.Until.UtcDateTime:d MMM HH:mm} UTC.");
                return 0;
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
            $"Its root is {x.Subject}\n  SHA-256 {x.Thumbprint}\nCompare this with what the service's administrator told you. Trust it? [y/N] "
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
                        using var answer = await api.SendAsync(new(HttpMethod.Delete, "/api/v1/session"), ct);
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
                        .Select(p => new[] { Esc(p.Name), Esc(string.Join(", ", p.Groups)), p.Locked ? "locked for a while" : "" }),
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
        return new("person", "Who may sign in.") { list, add };
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
