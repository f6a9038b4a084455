using System.CommandLine;
using System.Net.Http.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Commands;

internal static class BackupCommand
{
    public static IEnumerable<Command> All()
    {
        var output = new Option<string?>("--out") { Description = "File to write; a telling name in this folder when left out." };
        var c = new Command(
            "backup",
            "Everything the service keeps, its keys too, in one encrypted file, while it runs. Restore it on a fresh machine with: beacond restore FILE"
        )
        {
            output,
            Secrets.PassphraseFd,
        };
        c.Does(
            async (r, ct) =>
            {
                var passphrase = Secrets.Passphrase(r, "Passphrase for the backup: ", twice: true);
                using var api = Api.SignedIn();
                using var answer = await api.SendAsync(
                    new(HttpMethod.Post, "/api/v1/backup")
                    {
                        Content = JsonContent.Create(new BackupWish(passphrase), BeaconJson.Default.BackupWish),
                    },
                    ct
                );
                var path =
                    r.GetValue(output)
                    ?? Path.GetFileName(answer.Content.Headers.ContentDisposition?.FileName?.Trim('"') ?? "beacon-backup.sealed");
                if (File.Exists(path))
                    throw new BeaconProblem(ProblemCode.AlreadyExists, $"{path} is there already.", "Give another name with --out.");
                await using (
                    var file = new FileStream(
                        path,
                        new FileStreamOptions
                        {
                            Mode = FileMode.CreateNew,
                            Access = FileAccess.Write,
                            UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
                        }
                    )
                )
                {
                    await answer.Content.CopyToAsync(file, ct);
                    file.Flush(flushToDisk: true);
                }
                if (r.GetValue(Program.Json))
                    Json($"{{\"file\":{System.Text.Json.JsonSerializer.Serialize(Path.GetFullPath(path), BeaconJson.Default.String)}}}");
                else
                    Line(
                        $"Written: {path}, {new FileInfo(path).Length:N0} bytes. Keep it and its passphrase apart. Restore: BEACON_DATA=NEW-FOLDER beacond restore {Path.GetFileName(path)}"
                    );
                return ExitCodes.Done;
            }
        );
        return [c];
    }
}
