using System.CommandLine;
using System.Formats.Tar;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using Microsoft.EntityFrameworkCore;
using Microsoft.Win32.SafeHandles;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Health;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Keeping;

/// <summary>
/// Brings a backup back, into a new folder, before the service runs on it. What was done after the backup is taken from the lists that are still to be seen, at the
/// addresses in certificates or in files: revocations are made again, and what is not on record is named.
/// </summary>
public sealed class RestoreBackup(BeaconDb db, AuthorityRegistry registry, FetchPoint fetch, TimeProvider clock)
{
    /// <summary>Unpacks into a folder that is not there yet, or empty.</summary>
    /// <returns>When the backup was taken.</returns>
    public static async Task<DateTimeOffset> UnpackAsync(string file, string data, ECDiffieHellman key, CancellationToken ct)
    {
        if (Directory.Exists(data) && Directory.EnumerateFileSystemEntries(data).Any())
            throw new BeaconProblem(
                ProblemCode.AlreadyExists,
                $"The folder {data} is not empty.",
                "Give a new folder as BEACON_DATA: nothing is restored over anything."
            );
        // Into a folder beside it first: a restore that is killed leaves nothing that a service would start on.
        var beside = data.TrimEnd('/') + ".restoring";
        if (Directory.Exists(beside))
            Directory.Delete(beside, recursive: true);
        Directory.CreateDirectory(beside, Owner);
        var tar = Path.Combine(beside, "backup.tar");
        await using (var from = File.OpenRead(file))
        await using (var to = New(tar, Private))
            await SealedFile.ReadAsync(from, to, key, ct);
        var taken = await UnpackTarAsync(tar, beside, ct);
        File.Delete(tar);
        if (taken is null || !File.Exists(Path.Combine(beside, TakeBackup.DatabaseName)))
            throw new BeaconProblem(ProblemCode.DataDamaged, "The backup has no database.", "Take another copy of the file.");
        if (Directory.Exists(data))
            Directory.Delete(data);
        Directory.Move(beside, data);
        return taken.Value;
    }

    private const UnixFileMode Private = UnixFileMode.UserRead | UnixFileMode.UserWrite,
        Public = Private | UnixFileMode.GroupRead | UnixFileMode.OtherRead,
        Owner = Private | UnixFileMode.UserExecute;

    private static FileStream New(string path, UnixFileMode mode) =>
        new(
            path,
            new FileStreamOptions
            {
                Mode = FileMode.CreateNew,
                Access = FileAccess.Write,
                UnixCreateMode = mode,
            }
        );

    /// <returns>When the backup was taken; null when it does not say so.</returns>
    private static async Task<DateTimeOffset?> UnpackTarAsync(string tar, string folder, CancellationToken ct)
    {
        DateTimeOffset? taken = null;
        await using var stream = File.OpenRead(tar);
        await using var reader = new TarReader(stream);
        while (await reader.GetNextEntryAsync(copyData: false, ct) is { } entry)
        {
            if (entry.Name == TakeBackup.AboutName)
            {
                using var text = new StreamReader(entry.DataStream!);
                taken = DateTimeOffset.Parse(await text.ReadToEndAsync(ct), CultureInfo.InvariantCulture);
                continue;
            }
            ThrowUnlessKnown(entry);
            var path = Path.Combine(folder, entry.Name);
            Directory.CreateDirectory(Path.GetDirectoryName(path)!, Owner);
            await using var to = New(path, entry.Name == "root.pem" ? Public : Private);
            if (entry.DataStream is { } content)
                await content.CopyToAsync(to, ct);
            to.Flush(flushToDisk: true);
        }
        return taken;
    }

    /// <summary>A name in a backup leads nowhere but to where a backup's files belong.</summary>
    private static void ThrowUnlessKnown(TarEntry entry)
    {
        var isKnown =
            entry.Name is TakeBackup.DatabaseName or "root.pem"
            || (entry.Name.Split('/') is [var folder, var name] && TakeBackup.Folders.Contains(folder) && name is not ("." or ".."));
        if (entry.EntryType != TarEntryType.RegularFile || !isKnown)
            throw new BeaconProblem(
                ProblemCode.DataDamaged,
                $"The backup holds \"{entry.Name}\", which does not belong there.",
                "Take another copy of the file."
            );
    }

    /// <param name="lists">CRLs that were saved elsewhere.</param>
    /// <returns>What was seen and done, in sentences.</returns>
    public async Task<IReadOnlyList<string>> MendAsync(DateTimeOffset taken, IReadOnlyList<Crl> lists, CancellationToken ct)
    {
        var told = new List<string>();
        var now = clock.GetUtcNow();
        await registry.LoadAsync(db, ct);
        var seen = lists.Concat(await SeenAsync(told, ct)).ToList();
        await using var write = await db.BeginWriteAsync(ct);
        var highest = 0L;
        foreach (var list in seen)
            highest = Math.Max(highest, await RevokeAgainAsync(list, told, ct));
        var floor = Math.Max(now.ToUnixTimeSeconds(), highest);
        db.Restores.Add(
            new()
            {
                At = now,
                BackupAt = taken,
                CrlFloor = floor,
            }
        );
        await db.Sessions.ExecuteDeleteAsync(ct);
        told.Add(
            $"The backup is of {taken:yyyy-MM-dd HH:mm:ss} UTC. What was issued after it is unknown here: look for it where it is used. Serial numbers are random, so none comes twice; numbers of lists go on from {floor + 1}."
        );
        await db.Note(now, Actor.System, JournalAction.ServiceRestored, "service", string.Join(" ", told));
        await write.CommitAsync(ct);
        return told;
    }

    /// <summary>The lists that can be seen where certificates point to.</summary>
    private async Task<List<Crl>> SeenAsync(List<string> told, CancellationToken ct)
    {
        var seen = new List<Crl>();
        foreach (var key in registry.Keys)
        foreach (var uri in await AddressesAsync(key, ct))
        {
            var got = await fetch.RunAsync(uri, null, 64 << 20, ct);
            try
            {
                if (got.Status != 200)
                    told.Add($"{uri}: nothing to be seen there.");
                else
                    seen.Add(Crl.Read(got.Body));
            }
            catch (BeaconProblem)
            {
                told.Add($"{uri}: what is there is no list.");
            }
        }
        return seen;
    }

    /// <summary>What a list revokes is revoked here too.</summary>
    /// <returns>The list's number; 0 when it is not one of ours.</returns>
    private async Task<long> RevokeAgainAsync(Crl list, List<string> told, CancellationToken ct)
    {
        var key = registry.Keys.FirstOrDefault(k =>
            list.Issuer.Der.Span.SequenceEqual(k.Certificate.Subject.Der.Span) && list.SignedBy(k.Certificate.PublicKey)
        );
        if (key is null)
            return 0;
        var number = (long)(list.Number ?? 0);
        var known =
            await db.Crls.Where(c => c.AuthorityId == key.AuthorityId && c.KeyNumber == key.KeyNumber).MaxAsync(c => (long?)c.Number, ct)
            ?? 0;
        if (number > known)
            told.Add($"List {number} of {key.File} was issued after the backup, which has {known}.");
        foreach (var r in list.Revoked)
        {
            var edition = await db.Editions.FirstOrDefaultAsync(e => e.Serial == r.Serial.Hex, ct);
            if (edition is null)
                told.Add(
                    $"Serial {r.Serial} was issued and revoked after the backup; it stays out of our lists from now on: keep the old list, or let it end on its own."
                );
            else if (edition.RevokedAt is null && r.Reason != RevocationReason.RemoveFromCrl)
            {
                edition.Revoke(r.At, r.Reason);
                told.Add($"Serial {r.Serial} was revoked after the backup ({BeaconProblem.SlugOf(r.Reason)}): it is revoked again.");
            }
        }
        return number;
    }

    private async Task<IReadOnlyList<string>> AddressesAsync(IssuingPoint key, CancellationToken ct)
    {
        var newest = await db
            .Editions.AsNoTracking()
            .Where(e => key.Generations.Contains(e.GenerationId) && e.Profile != "responder")
            .OrderByDescending(e => e.Id)
            .Select(e => e.Der)
            .FirstOrDefaultAsync(ct);
        return [.. (newest is null ? [] : X509.Read(newest).CrlUris).Append(key.CrlUri).Distinct()];
    }
}

/// <summary><c>beacond restore FILE</c>: on a fresh machine, before the service is started.</summary>
internal static class RestoreCommand
{
    public static Command Make()
    {
        var file = new Argument<string>("file") { Description = "What beacon backup wrote." };
        var keyFile = new Option<string>("--key")
        {
            Description = "The recovery key's private half, as beacon ceremony recovery-key wrote it.",
            Required = true,
        };
        var fd = new Option<int>("--passphrase-fd") { Description = "Read its passphrase from this file descriptor; 0 is standard input." };
        var list = new Option<string[]>("--list")
        {
            Description = "A CRL that was saved after the backup, when its address cannot be reached any more.",
            AllowMultipleArgumentsPerToken = true,
        };
        var command = new Command("restore", "Restore a backup into the folder that BEACON_DATA names, which must be new.")
        {
            file,
            keyFile,
            fd,
            list,
        };
        command.SetAction(
            async (r, ct) =>
            {
                using var input = new FileStream(new SafeFileHandle(r.GetValue(fd), ownsHandle: false), FileAccess.Read);
                using var reader = new StreamReader(input, Encoding.UTF8);
                var passphrase = (await reader.ReadLineAsync(ct) ?? "").Trim();
                using var key = RecoveryKeys.Open(await File.ReadAllTextAsync(r.GetValue(keyFile)!, ct), passphrase);
                var builder = ProgramFolder.Builder();
                builder.Logging.ClearProviders();
                var options = Settings.Read(builder.Configuration);
                var taken = await RestoreBackup.UnpackAsync(r.GetValue(file)!, options.Data, key, ct);
                // A copy is in the simple mode; the first look at a database is read-only, and could not change that.
                await using (var connection = new Microsoft.Data.Sqlite.SqliteConnection(Database.ConnectionString(options)))
                {
                    connection.Open();
                    await using var mode = connection.CreateCommand();
                    mode.CommandText = SqliteSettings.Pragmas;
                    await mode.ExecuteNonQueryAsync(ct);
                }
                builder.Services.AddBeacon(options, hosted: true);
                await using var app = builder.Build();
                await using var scope = app.Services.CreateAsyncScope();
                await Database.UpdateAsync(scope.ServiceProvider.GetRequiredService<BeaconDb>(), ct);
                var lists = (r.GetValue(list) ?? [])
                    .SelectMany(f => FileInspection.Inspect(File.ReadAllBytes(f)))
                    .Where(i => i.Kind == FileItemKind.Crl)
                    .Select(i => Crl.Read(i.Der))
                    .ToList();
                foreach (var sentence in await scope.ServiceProvider.GetRequiredService<RestoreBackup>().MendAsync(taken, lists, ct))
                    Console.WriteLine(sentence);
                Console.WriteLine($"Restored into {options.Data}. Make sure that the old service is off for good, then start this one.");
                return 0;
            }
        );
        return command;
    }
}
