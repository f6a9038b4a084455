using System.CommandLine;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>Taking trust away, for a while or for good, one by one or by the many.</summary>
internal static class RevocationCommands
{
    private static Option<string> Reason()
    {
        var reason = new Option<string>("--reason")
        {
            Description = "Why. A hold can be released again; everything else is for good.",
            DefaultValueFactory = _ => "unspecified",
        };
        reason.AcceptOnlyFromAmong(
            "unspecified",
            "key-compromise",
            "affiliation-changed",
            "superseded",
            "cessation-of-operation",
            "privilege-withdrawn",
            "hold"
        );
        return reason;
    }

    private static readonly Func<string, Option<string?>> SerialOf = what => new("--serial") { Description = what };

    /// <summary>Asks whoever sits at the terminal: what is revoked stays so.</summary>
    private static async Task<bool> IsMeantAsync(Api api, string name, string? serial, CancellationToken ct)
    {
        var text = await api.TextAsync($"/api/v1/certificates/{Api.Escape(name)}", ct);
        var c = Api.Read(text, BeaconJson.Default.CertificateDetail).Certificate;
        var used = c.Bindings.Select(b => $"{b.Host}/{b.Service}").ToList();
        Line($"Edition {serial ?? c.Serial} of {c.Name}{(used.Count > 0 ? ", bound to " + string.Join(", ", used) : "")}:");
        Line("clients that check revocation refuse it from now on, and it cannot be taken back. A hold can: --reason hold.");
        Console.Out.Write("Revoke it? [y/N] ");
        return Console.In.ReadLine()?.Trim() is "y" or "Y" or "yes";
    }

    public static Command Revoke(Argument<string> name)
    {
        var (reason, serial) = (Reason(), SerialOf("An older edition; the current one when left out."));
        var yes = new Option<bool>("--yes") { Description = "Do not ask first." };
        var c = new Command("revoke", "Revoke an edition, or put it on hold; CRL and OCSP say so at once.") { name, reason, serial, yes };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var isForGood = r.GetValue(reason) != "hold";
                if (
                    isForGood
                    && !r.GetValue(yes)
                    && !Console.IsInputRedirected
                    && !await IsMeantAsync(api, r.GetValue(name)!, r.GetValue(serial), ct)
                )
                {
                    Line("Nothing was revoked.");
                    return ExitCodes.Usage;
                }
                var text = await api.PostAsync(
                    $"/api/v1/certificates/{Api.Escape(r.GetValue(name)!)}/revoke",
                    new Revocation(r.GetValue(reason)!, r.GetValue(serial)),
                    BeaconJson.Default.Revocation,
                    ct
                );
                if (r.GetValue(Program.Json))
                {
                    Json(text);
                    return 0;
                }
                var d = Api.Read(text, BeaconJson.Default.CertificateDetail);
                if (r.GetValue(reason) == "hold")
                {
                    Line(
                        $"{d.Certificate.Name} is on hold; CRL and OCSP say so. Release it: beacon cert release {d.Certificate.Name}{(r.GetValue(serial) is { } held ? " --serial " + held : "")}"
                    );
                    return 0;
                }
                var e = d.Editions.Where(e => e.RevokedAt is not null).MaxBy(e => e.RevokedAt)!;
                Line($"Edition {e.Serial} of {d.Certificate.Name} is revoked ({e.RevocationReason}); the new CRL is published.");
                if (d.Certificate.Policy.Automatic && e.State == EditionState.Current)
                    Line("Its successor is being made and put in place.");
                return 0;
            }
        );
        return c;
    }

    public static Command Release(Argument<string> name)
    {
        var serial = SerialOf("An older edition; the current one when left out.");
        var c = new Command("release", "End a hold: the edition is good again.") { name, serial };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var text = await api.PostAsync(
                    $"/api/v1/certificates/{Api.Escape(r.GetValue(name)!)}/release",
                    new HoldRelease(r.GetValue(serial)),
                    BeaconJson.Default.HoldRelease,
                    ct
                );
                if (r.GetValue(Program.Json))
                    Json(text);
                else
                    Line($"{r.GetValue(name)} is good again; CRL and OCSP say so.");
                return 0;
            }
        );
        return c;
    }

    public static Command RevokeAll()
    {
        var reason = Reason();
        var serials = new Option<string[]>("--serial")
        {
            Description = "These editions; may be given several times.",
            AllowMultipleArgumentsPerToken = true,
        };
        var host = new Option<string?>("--host") { Description = "Everything that was issued for a host." };
        var profile = new Option<string?>("--profile") { Description = "Everything that was issued under one revision of a profile." };
        var revision = new Option<int?>("--revision") { Description = "The profile's revision." };
        var count = new Option<int?>("--count") { Description = "How many editions the preview named. Without it nothing is revoked." };
        var c = new Command("revoke-all", "Revoke many editions at once. Shows them first; the count it shows is what carries it out.")
        {
            reason,
            serials,
            host,
            profile,
            revision,
            count,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var text = await api.PostAsync(
                    "/api/v1/revocations",
                    new RevocationWish(
                        r.GetValue(reason)!,
                        r.GetValue(serials),
                        r.GetValue(host),
                        r.GetValue(profile),
                        r.GetValue(revision),
                        r.GetValue(count)
                    ),
                    BeaconJson.Default.RevocationWish,
                    ct
                );
                if (r.GetValue(Program.Json))
                {
                    Json(text);
                    return 0;
                }
                var o = Api.Read(text, BeaconJson.Default.RevocationOutcome);
                if (o.Done)
                {
                    Line($"{o.Count} editions are revoked; CRL and OCSP say so.");
                    return 0;
                }
                Table(
                    ["Certificate", "Serial", "Use", "Expires"],
                    o.Items.Take(40)
                        .Select(i => new Ink[] { i.Certificate, i.Serial, i.State.ToString().ToLowerInvariant(), When(i.NotAfter) }),
                    "No valid edition matches."
                );
                if (o.Count > 40)
                    Line($"… and {o.Count - 40} more (--json has all).");
                if (o.Count > 0)
                    Line($"Nothing is revoked yet. To revoke these {o.Count}, repeat it with --count {o.Count}");
                return 0;
            }
        );
        return c;
    }
}
