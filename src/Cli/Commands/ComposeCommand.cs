using System.CommandLine;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>A request from a purpose: which names it wants, what each is for, and the command that asks for them.</summary>
internal static class ComposeCommand
{
    public static Command Make()
    {
        var purpose = new Option<string>("--for")
        {
            Description = "website, mail, database, directory, files, federation, device, or several services under one certificate.",
            Required = true,
        };
        var host = new Option<string>("--host") { Description = "The host that serves it.", Required = true };
        var services = new Option<string[]>("--service")
        {
            Description = "A service of the host; all that fit when left out.",
            AllowMultipleArgumentsPerToken = true,
        };
        var domain = new Option<string?>("--domain") { Description = "Of mail: the domain behind the @." };
        var functions = new Option<string[]>("--function")
        {
            Description = "Of mail: web-inside, web-outside, client-setup, mobile-sync, submission, imap, pop, server-to-server.",
            AllowMultipleArgumentsPerToken = true,
        };
        var c = new Command("compose", "Propose the names that a purpose wants. Nothing is asked for; the command that does is shown.")
        {
            purpose,
            host,
            services,
            domain,
            functions,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var wish = new ComposeWish(
                    r.GetValue(purpose)!,
                    r.GetValue(host)!,
                    r.GetValue(services),
                    r.GetValue(domain),
                    r.GetValue(functions)
                );
                var json = await api.PostAsync("/api/v1/requests/compose", wish, BeaconJson.Default.ComposeWish, ct);
                if (r.GetValue(Program.Json))
                    Json(json);
                else
                    Show(Api.Read(json, BeaconJson.Default.ComposedNames), wish);
                return 0;
            }
        );
        return c;
    }

    private static void Show(ComposedNames composed, ComposeWish wish)
    {
        Table(
            ["", "Name", "For", "Without it", "Found in"],
            composed.Names.Select(n =>
                new Ink[] { n.Chosen ? Green("●") : Grey("○"), n.Name, string.Join("; ", n.Uses), n.Without, Grey(n.Source) }
            ),
            "No name can be proposed."
        );
        if (composed.Names.Any(n => !n.Chosen))
            Rich(Grey("● belongs in   ○ a thought: add it when somebody uses it"));
        foreach (var m in composed.Missing)
            Rich($"{Mark(Severity.Soon)} {m.Reason}  {Grey(OptionOf(m.Field))}");
        foreach (var remark in composed.Remarks)
            Line(remark);
        if (composed.Missing.Any(m => m.Field != "names"))
            return;
        Line();
        Line("See what would be decided about each, and the certificate as it will be:");
        var names = composed.Names.Where(n => n.Chosen).Select(n => $"--name {ShellCommand.Quoted(n.Name)}");
        var bind = composed.BindTo.Select(b => $"--bind-to {ShellCommand.Quoted(b)}");
        Command(2, $"beacon request new --host {ShellCommand.Quoted(wish.Host)} {string.Join(' ', names.Concat(bind))} --preview");
    }

    private static string OptionOf(string field) =>
        field switch
        {
            "services" => "--service NAME",
            "domain" => "--domain DOMAIN",
            "functions" => "--function imap --function submission …",
            _ => "--name NAME of request new",
        };
}
