using System.CommandLine;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

/// <summary>CSRs that go out to authorities that are not ours, and the answers that come back.</summary>
internal static class AnswerCommands
{
    public static Command Csr()
    {
        var number = new Argument<long>("number") { Description = "The request's number." };
        var to = new Option<string?>("--out") { Description = "File to write it to; standard output when left out." };
        var c = new Command("csr", "The CSR of a request, whole, to be handed in at an authority outside.") { number, to };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var json = await api.TextAsync($"/api/v1/requests/{r.GetValue(number)}/csr", ct);
                if (r.GetValue(Program.Json))
                {
                    Json(json);
                    return ExitCodes.Done;
                }
                var csr = Api.Read(json, BeaconJson.Default.RequestCsr);
                if (r.GetValue(to) is { } path)
                    await File.WriteAllTextAsync(path, csr.Csr, ct);
                else
                    Console.Out.Write(csr.Csr);
                await Console.Error.WriteLineAsync(
                    $"It asks for {string.Join(", ", csr.Names)}, subject {csr.Subject}, key {csr.Key}. The answer: beacon request answer FILE"
                );
                return ExitCodes.Done;
            }
        );
        return c;
    }

    public static Command Answer()
    {
        var files = new Argument<string[]>("file")
        {
            Description = "What the authority sent: PEM, DER, PKCS#7, a ZIP, or a folder of these, in any order.",
            Arity = ArgumentArity.OneOrMore,
        };
        var c = new Command("answer", "Bring what an authority outside has sent: each certificate finds its request by its key.") { files };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var text = await api.PostAsync(
                    "/api/v1/requests/answers",
                    new(GivenFiles.Read(r.GetValue(files)!)),
                    BeaconJson.Default.AnswerFiles,
                    ct
                );
                var json = r.GetValue(Program.Json);
                if (json)
                    Json(text);
                var outcome = Api.Read(text, BeaconJson.Default.AnswerOutcome);
                var code = ExitCodes.Done;
                foreach (var a in outcome.Answers)
                {
                    if (!json)
                        Hanging(a.Taken ? Green("○") + " " : Yellow("◐") + " ", 2, $"{Bold(a.Certificate)}: {a.Told}");
                    var ended = a.Taken ? ExitCodes.Done : ExitCodes.Failed;
                    if (a is { Taken: true, Order: { } order } && !json)
                        ended = await Progress.FollowAsync(api, order, $"{a.Certificate} is in its host's store, with its key.", json, ct);
                    code = code == ExitCodes.Done ? ended : code;
                }
                if (!json)
                    foreach (var note in outcome.Notes)
                        Hanging(Grey("·") + " ", 2, note);
                return code;
            }
        );
        return c;
    }

    public static Command Accept()
    {
        var number = new Argument<long>("number") { Description = "The request's number." };
        var c = new Command("accept-answer", "Take an answer that differs from what was asked; somebody else than who asked decides it.")
        {
            number,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                var text = await api.PostAsync($"/api/v1/requests/{r.GetValue(number)}/answer/accept", ct);
                var order = Api.Read(text, BeaconJson.Default.OrderAccepted).Order;
                return await Progress.FollowAsync(api, order, "The answer is in place.", r.GetValue(Program.Json), ct);
            }
        );
        return c;
    }

    public static Command Compare()
    {
        var left = new Argument<string>("left") { Description = "A certificate's name, an edition's serial or fingerprint; or a file." };
        var right = new Argument<string>("right") { Description = "The same." };
        var c = new Command("compare", "Two certificates side by side, what differs first.") { left, right };
        c.Does(
            async (r, ct) =>
            {
                var (a, b) = (r.GetValue(left)!, r.GetValue(right)!);
                Comparison result;
                if (File.Exists(a) || File.Exists(b))
                    result = await OfFilesAsync(a, b, ct);
                else
                {
                    using var api = Api.SignedIn();
                    result = await api.GetAsync(
                        "/api/v1/comparison" + Api.Query(("left", a), ("right", b)),
                        BeaconJson.Default.Comparison,
                        ct
                    );
                }
                if (r.GetValue(Program.Json))
                {
                    Json(System.Text.Json.JsonSerializer.Serialize(result, BeaconJson.Default.Comparison));
                    return ExitCodes.Done;
                }
                Table(
                    ["", "Field", result.Left, result.Right],
                    result.Fields.Select(f => new Ink[] { f.Same ? Grey("=") : Yellow("≠"), f.Field, f.Left, f.Same ? "" : f.Right }),
                    ""
                );
                Line();
                Line(result.Verdict);
                return ExitCodes.Done;
            }
        );
        return c;
    }

    private static async Task<Comparison> OfFilesAsync(string left, string right, CancellationToken ct)
    {
        var (a, b) = (await ReadAsync(left, ct), await ReadAsync(right, ct));
        var fields = Core.Formats.CertificateComparison.Run(a, b);
        return new(
            left,
            right,
            Core.Formats.CertificateComparison.Verdict(a, b),
            [.. fields.Select(f => new ComparisonField(f.Field, f.Left, f.Right, f.IsSame))]
        );
    }

    private static async Task<Core.Issuing.X509> ReadAsync(string which, CancellationToken ct)
    {
        if (File.Exists(which))
        {
            using var bag = Core.Formats.CertificateBag.Read([new(which, await File.ReadAllBytesAsync(which, ct))], null, withKeys: true);
            return bag.Leaves.Concat(bag.Certificates).First();
        }
        using var api = Api.SignedIn();
        var pem = await api.TextAsync($"/api/v1/certificates/{Api.Escape(which)}/export?form=pem", ct);
        return Core.Issuing.X509.Read(Core.Formats.Armor.Read(System.Text.Encoding.ASCII.GetBytes(pem)).Blocks[0].Der);
    }
}
