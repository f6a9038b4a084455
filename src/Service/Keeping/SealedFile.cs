using System.Formats.Tar;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Keys;

namespace OrderlyBeacon.Service.Keeping;

/// <summary>
/// The form of a backup's file: a tar of segments, each a whole CMS message for the recovery keys (see <see cref="AuthEnveloped"/>), since the platform's cipher works on
/// whole messages. Inside each, under its authentication, one line says which backup and which segment of how many it is; the rest of all of them, one after another, is
/// the content. Other programs open it: docs/guide/authority.md has the few lines of shell.
/// </summary>
internal static class SealedFile
{
    private const int Segment = 8 << 20;
    private const int MostSegments = 100_000;
    private const string Word = "orderly-beacon-backup-2";
    private const string ReadMe = """
        A backup of Orderly Beacon, sealed to its recovery keys. Restore it with: beacond restore FILE --key RECOVERY-KEY.pem
        In an emergency, with openssl alone (the key's passphrase is asked for once a segment):
          for f in *.cms; do openssl cms -decrypt -inform DER -in "$f" -inkey RECOVERY-KEY.pem -recip RECOVERY-CERTIFICATE.pem | tail -n +2; done > content.tar
        """;

    /// <param name="content">Its length must be known.</param>
    public static async Task WriteAsync(Stream content, Stream to, IReadOnlyList<PublicKeyInfo> recipients, CancellationToken ct)
    {
        var count = (int)Math.Max(1, (content.Length + Segment - 1) / Segment);
        var id = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(16));
        await using var tar = new TarWriter(to, TarEntryFormat.Pax, leaveOpen: true);
        await AddAsync(tar, "README.txt", Encoding.UTF8.GetBytes(ReadMe + "\n"), ct);
        var buffer = new byte[Segment];
        for (var n = 1; n <= count; n++)
        {
            var length = await content.ReadAtLeastAsync(buffer, Segment, throwOnEndOfStream: false, ct);
            byte[] plain = [.. Encoding.ASCII.GetBytes(Head(id, n, count)), .. buffer.AsSpan(0, length)];
            var message = AuthEnveloped.Seal(plain, recipients, RandomNumberGenerator.GetBytes(AuthEnveloped.RandomBytes));
            await AddAsync(tar, NameOf(n, count), message, ct);
        }
    }

    private static string Head(string id, int n, int count) => $"{Word} {id} segment {n} of {count}\n";

    private static string NameOf(int n, int count) => $"{n:000000}-of-{count:000000}.cms";

    private static Task AddAsync(TarWriter tar, string name, byte[] bytes, CancellationToken ct) =>
        tar.WriteEntryAsync(
            new PaxTarEntry(TarEntryType.RegularFile, name)
            {
                DataStream = new MemoryStream(bytes),
                Mode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
            },
            ct
        );

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.WrongFile"/>, <see cref="ProblemCode.PassphraseWrong"/> or <see cref="ProblemCode.DataDamaged"/>.</exception>
    public static async Task ReadAsync(Stream from, Stream to, ECDiffieHellman key, CancellationToken ct)
    {
        string? id = null;
        var (next, count, isBackup) = (1, 1, false);
        try
        {
            await using var tar = new TarReader(from, leaveOpen: true);
            while (await tar.GetNextEntryAsync(copyData: false, ct) is { } entry)
            {
                if (!entry.Name.EndsWith(".cms", StringComparison.Ordinal) || entry.DataStream is not { } data)
                    continue;
                isBackup = true;
                if (entry.Length > Segment + (1 << 20))
                    throw Damaged("a segment is larger than any that is written");
                var message = new byte[entry.Length];
                await data.ReadExactlyAsync(message, ct);
                var plain = AuthEnveloped.Open(message, key);
                var line = plain.AsSpan().IndexOf((byte)'\n');
                if (Parse(plain, line) is not { } head)
                    throw Damaged("a segment does not say which one it is");
                (id, count) = (id ?? head.Id, id is null ? head.Count : count);
                if (head.Id != id || head.Count != count || head.Number != next)
                    throw Damaged($"segment {next} of {count} is missing, or segments of several backups are mixed");
                await to.WriteAsync(plain.AsMemory(line + 1), ct);
                next++;
            }
        }
        catch (Exception e) when (e is InvalidDataException or EndOfStreamException or FormatException or ArgumentException)
        {
            throw !isBackup
                ? new BeaconProblem(ProblemCode.WrongFile, "This is no backup of a service.", "Give the file that beacon backup wrote.", e)
                : Damaged("it ends too early");
        }
        if (id is null)
            throw new BeaconProblem(ProblemCode.WrongFile, "This is no backup of a service.", "Give the file that beacon backup wrote.");
        if (next != count + 1)
            throw Damaged("it ends too early");
    }

    private static (string Id, int Number, int Count)? Parse(byte[] plain, int line)
    {
        if (
            line is < 1 or > 200
            || Encoding.ASCII.GetString(plain, 0, line).Split(' ') is not [Word, { Length: 32 } id, "segment", var n, "of", var count]
        )
            return null;
        return Number(n) is { } number && Number(count) is { } all && number <= all ? (id, number, all) : null;

        static int? Number(string text) =>
            int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var n) && n is > 0 and <= MostSegments ? n : null;
    }

    private static BeaconProblem Damaged(string what) =>
        new(ProblemCode.DataDamaged, $"The backup cannot be used: {what}.", "Take another copy of the file.");
}
