using System.CommandLine;
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
            "Everything the service keeps, its keys too, in one file that only the recovery keys open, while it runs. Restore it on a fresh machine with: beacond restore FILE --key KEY"
        )
        {
            output,
        };
        c.Does(
            async (r, ct) =>
            {
                using var api = Api.SignedIn();
                using var answer = await api.ProvenAsync(() => new(HttpMethod.Post, "/api/v1/backup"), ct);
                var path =
                    r.GetValue(output)
                    ?? Path.GetFileName(answer.Content.Headers.ContentDisposition?.FileName?.Trim('"') ?? "beacon-backup.sealed.tar");
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
                        $"Written: {path}, {new FileInfo(path).Length:N0} bytes. Keep it apart from the recovery key. Restore: BEACON_DATA=NEW-FOLDER beacond restore {Path.GetFileName(path)} --key RECOVERY-KEY.pem"
                    );
                return ExitCodes.Done;
            }
        );
        return [c];
    }
}
