using System.Formats.Tar;
using System.Globalization;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Keeping;

/// <summary>
/// Everything that the service keeps, in one sealed file, while it runs: a consistent copy of the database, then the keys as they are protected. In that order, since
/// a key's file is there before the row that names it.
/// </summary>
public sealed class TakeBackup(BeaconDb db, RecoveryKeys recovery, BeaconOptions options, TimeProvider clock)
{
    public const string DatabaseName = "beacon.db",
        AboutName = "about.txt";

    /// <summary>What belongs to it besides the database; keys that are in a token stay there, and what is to be taken away is not read.</summary>
    internal static readonly string[] Folders = ["keys"];

    /// <summary>At start: what a backup that was cut off left lying is of no use.</summary>
    public static void Tidy(string data)
    {
        foreach (var left in Directory.EnumerateDirectories(data, "backup-*"))
            Directory.Delete(left, recursive: true);
        foreach (var left in Directory.EnumerateFiles(data, "backup-*.sealed"))
            File.Delete(left);
    }

    /// <returns>A temporary file, to be deleted by the caller.</returns>
    public async Task<string> RunAsync(Actor actor, CancellationToken ct)
    {
        var recipients = recovery.Read();
        var now = clock.GetUtcNow();
        var folder = Directory
            .CreateDirectory(
                Path.Combine(options.Data, "backup-" + Guid.NewGuid().ToString("N")),
                UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute
            )
            .FullName;
        var (copy, tar, done) = (
            Path.Combine(folder, DatabaseName),
            Path.Combine(folder, "backup.tar"),
            Path.Combine(options.Data, Path.GetFileName(folder) + ".sealed")
        );
        try
        {
            await using (var write = await db.BeginWriteAsync(ct))
            {
                await db.Note(
                    now,
                    actor,
                    JournalAction.ServiceBackedUp,
                    "service",
                    "sealed to " + string.Join(", ", recipients.Select(r => $"{r.Subject} ({r.PublicKey.Fingerprint()[..16]}…)"))
                );
                await write.CommitAsync(ct);
            }
            await db.Database.ExecuteSqlAsync($"VACUUM INTO {copy}", ct);
            await PackAsync(tar, copy, now, ct);
            await using (var from = File.OpenRead(tar))
            await using (var to = PrivateFile(done))
                await SealedFile.WriteAsync(from, to, [.. recipients.Select(r => r.PublicKey)], ct);
            return done;
        }
        catch
        {
            File.Delete(done);
            throw;
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    private async Task PackAsync(string tar, string database, DateTimeOffset now, CancellationToken ct)
    {
        await using var stream = PrivateFile(tar);
        await using var writer = new TarWriter(stream, TarEntryFormat.Pax);
        await AddAsync(
            writer,
            AboutName,
            new MemoryStream(System.Text.Encoding.UTF8.GetBytes(now.ToString("O", CultureInfo.InvariantCulture))),
            ct
        );
        await using (var rows = File.OpenRead(database))
            await AddAsync(writer, DatabaseName, rows, ct);
        foreach (
            var file in Folders
                .Select(f => Path.Combine(options.Data, f))
                .Where(Directory.Exists)
                .SelectMany(Directory.EnumerateFiles)
                .Append(Path.Combine(options.Data, "root.pem"))
                .Where(f => File.Exists(f) && !f.EndsWith(".new", StringComparison.Ordinal))
        )
            await using (var content = File.OpenRead(file))
                await AddAsync(writer, Path.GetRelativePath(options.Data, file), content, ct);
    }

    private static FileStream PrivateFile(string path) =>
        new(
            path,
            new FileStreamOptions
            {
                Mode = FileMode.CreateNew,
                Access = FileAccess.Write,
                UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
            }
        );

    private static Task AddAsync(TarWriter writer, string name, Stream content, CancellationToken ct) =>
        writer.WriteEntryAsync(
            new PaxTarEntry(TarEntryType.RegularFile, name) { DataStream = content, Mode = UnixFileMode.UserRead | UnixFileMode.UserWrite },
            ct
        );
}

/// <summary>A restore that this database has been through.</summary>
public sealed class Restore
{
    public int Id { get; private init; }
    public required DateTimeOffset At { get; init; }
    public required DateTimeOffset BackupAt { get; init; }

    /// <summary>Numbers of CRLs up to here may have been used after the backup: they are not used again. The second of the restore, which no count of lists reaches.</summary>
    public required long CrlFloor { get; init; }
}

internal static class BackupEndpoints
{
    public static void MapBackup(this RouteGroupBuilder api) =>
        api.MapPost(
                "/backup",
                async (TakeBackup take, Caller caller, TimeProvider clock, CancellationToken ct) =>
                {
                    var file = await take.RunAsync(caller.Actor, ct);
                    var stream = new FileStream(
                        file,
                        new FileStreamOptions
                        {
                            Mode = FileMode.Open,
                            Access = FileAccess.Read,
                            Options = FileOptions.DeleteOnClose | FileOptions.Asynchronous,
                        }
                    );
                    return Results.File(stream, "application/x-tar", $"beacon-backup--{clock.GetUtcNow():yyyy-MM-dd-HHmm}.sealed.tar");
                }
            )
            .Is(Operation.TakeBackup)
            .AnswersSecret()
            .WithTags("Keeping")
            .Produces(200, contentType: "application/x-tar");
}
