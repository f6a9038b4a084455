using System.Collections.Concurrent;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Service.Tests;

/// <summary>A backup is taken under load and restored on a fresh folder: no serial and no CRL number comes twice.</summary>
public sealed class BackupTests
{
    private const string Words = "five quiet words in a row";

    [Fact]
    public async Task A_backup_under_load_is_restored_and_goes_on()
    {
        using var s = new Scratch();
        var (certificate, key) = RecoveryKey(s, "keys", Words);
        var (_, otherKey) = RecoveryKey(s, "other keys", Words);
        await using var service = new RunningService { Settings = { ["BEACON_RECOVERYCERTIFICATES"] = certificate } };
        await service.InitializeAsync();
        var home = service.Home();
        var (serials, numbers) = (new ConcurrentQueue<string>(), new ConcurrentQueue<long>());
        using var end = new CancellationTokenSource();
        var load = Enumerable
            .Range(0, 2)
            .Select(i =>
                Task.Run(async () =>
                {
                    using var mine = new Scratch();
                    while (!end.IsCancellationRequested)
                    {
                        serials.Enqueue(Enrol(service, mine).Serial.Hex);
                        if (i == 0)
                            numbers.Enqueue(await NumberAsync(service));
                    }
                })
            )
            .ToArray();
        while (serials.Count < 6)
            await Task.Delay(50, TestContext.Current.CancellationToken);

        var file = s["kept.sealed"];
        var (code, output, error) = service.Beacon(home, "backup", "--out", file);
        Assert.True(code == 0, output + error + service.Errors);
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(file));
        Assert.DoesNotContain("SQLite format", System.Text.Encoding.Latin1.GetString(File.ReadAllBytes(file)));
        OpenedInAnEmergency(s, file, key, certificate);
        Assert.Empty(Directory.EnumerateFileSystemEntries(service.Data, "backup-*"));
        var before = serials.Count;
        while (serials.Count < before + 4)
            await Task.Delay(50, TestContext.Current.CancellationToken);
        await end.CancelAsync();
        await Task.WhenAll(load);

        // After the backup: one that it knows is revoked, and one that it does not know.
        var known = (
            await RunningService.GetAsync(service.Robin, "/api/v1/certificates?take=200", BeaconJson.Default.PageCertificateInfo)
        ).Items.First(c => c.Name.EndsWith("@robin") && serials.Take(4).Contains(c.Serial));
        var late = Enrol(service, s);
        serials.Enqueue(late.Serial.Hex);
        foreach (var (name, serial) in new[] { (known.Name, known.Serial!), ($"{late.Names[0].Value}@robin", late.Serial.Hex) })
            Assert.Equal(0, service.Beacon(home, "cert", "revoke", name, "--serial", serial, "--reason", "key-compromise").Code);
        numbers.Enqueue(await NumberAsync(service));
        var list = s["last.crl"];
        Programs.Run("curl", ["-sSf", "-o", list, $"http://localhost:{service.PublicationPort}/crl/issuing.crl"]);
        service.KillHard();
        Directory.Move(service.Data, service.Data + "-lost");

        // Wrong passphrase, altered, cut short, over something: refused, and nothing is left behind.
        Refused("does not open the recovery key", "not the right words at all", file);
        Refused("is not sealed to this recovery key", Words, file, otherKey);
        Refused("no recovery key", Words, file, certificate);
        var bytes = File.ReadAllBytes(file);
        bytes[bytes.Length / 2] ^= 1;
        Refused("was altered", Words, Altered(bytes));
        Refused("ends too early", Words, Altered(File.ReadAllBytes(file)[..^5000]));
        Refused("is no backup", Words, list);
        Directory.CreateDirectory(service.Data);
        File.WriteAllText(Path.Combine(service.Data, "something"), "");
        Refused("is not empty", Words, file);
        Directory.Delete(service.Data, recursive: true);

        var (restored, told, why) = Restore(Words, file, key, "--list", list);
        Assert.True(restored == 0, told + why);
        Assert.Contains($"Serial {known.Serial} was revoked after the backup (key-compromise): it is revoked again.", told);
        Assert.Contains($"Serial {late.Serial} was issued and revoked after the backup", told);
        await service.StartAsync();
        var again = service.Home();

        // Signed in with the old password; old sessions are over.
        using var old = await service.Robin.GetAsync("/api/v1/session", TestContext.Current.CancellationToken);
        Assert.Equal(System.Net.HttpStatusCode.Unauthorized, old.StatusCode);
        var entries = Crl.Read(await FetchAsync(service));
        Assert.NotNull(entries.Find(new(known.Serial!)));
        numbers.Enqueue(await NumberAsync(service));
        for (var i = 0; i < 6; i++)
        {
            var e = Enrol(service, s);
            serials.Enqueue(e.Serial.Hex);
            Assert.Equal(0, service.Beacon(again, "cert", "revoke", $"{e.Names[0].Value}@robin", "--reason", "superseded").Code);
            numbers.Enqueue(await NumberAsync(service));
        }
        Assert.Equal(serials.Count, serials.Distinct().Count());
        // Newest after each revocation, and never one that was seen before the restore.
        var seen = numbers.ToList();
        var after = seen[^7..];
        Assert.Equal(7, after.Distinct().Count());
        Assert.True(after.Min() > seen[..^7].Max(), string.Join(", ", seen));
        Assert.Equal(0, service.Beacon(again, "journal", "verify").Code);
        Assert.Contains("service.restored", service.Beacon(again, "journal", "list", "service.", "--json").Output);

        (int, string, string) Restore(string words, string from, string with, params string[] more) =>
            Programs.Run(
                "bash",
                ["-c", $"exec {Own.Service} restore {from} --key '{with}' --passphrase-fd 3 {string.Join(' ', more)} 3<<<'{words}'"],
                [],
                new Dictionary<string, string>
                {
                    ["BEACON_DATA"] = service.Data,
                    ["BEACON_PORT"] = service.Port.ToString(),
                    ["BEACON_PUBLICATIONPORT"] = service.PublicationPort.ToString(),
                    ["BEACON_ORGANIZATION"] = "Thistledown Rail",
                }
            );

        void Refused(string says, string words, string from, string? with = null)
        {
            var (no, said, problem) = Restore(words, from, with ?? key);
            Assert.True(no != 0, said);
            Assert.Contains(says, problem);
            Assert.DoesNotContain("   at ", problem);
            Assert.False(File.Exists(Path.Combine(service.Data, "beacon.db")));
        }

        string Altered(byte[] content)
        {
            var path = s[Guid.NewGuid().ToString("N")];
            File.WriteAllBytes(path, content);
            return path;
        }
    }

    /// <summary>Made as on another machine: its certificate and its key.</summary>
    internal static (string Certificate, string Key) RecoveryKey(Scratch s, string folder, string words)
    {
        var (code, output, error) = Programs.Run(
            "bash",
            ["-c", $"exec {Own.Client} ceremony recovery-key '{s[folder]}' --passphrase-fd 3 3<<<'{words}'"]
        );
        Assert.True(code == 0, output + error);
        string Only(string what) => Directory.EnumerateFiles(s[folder], what + "--*").Single();
        return (Only("recovery-certificate"), Only("recovery-key"));
    }

    /// <summary>The lines of docs/guide/authority.md: another program opens each segment, and what comes out is the database.</summary>
    private static void OpenedInAnEmergency(Scratch s, string file, string key, string certificate)
    {
        var folder = s["emergency"];
        var script = $"""
            set -e; mkdir {folder}; cd {folder}; tar -xf {file}
            for f in *.cms; do
              openssl cms -decrypt -inform DER -in "$f" -inkey '{key}' -recip '{certificate}' -passin 'pass:{Words}' | tail -n +2
            done > content.tar
            tar -xf content.tar
            """;
        var (code, output, error) = Programs.Run("bash", ["-c", script]);
        Assert.True(code == 0, output + error);
        Assert.StartsWith("SQLite format 3", File.ReadAllText(Path.Combine(folder, "beacon.db")));
        Assert.Contains("for f in *.cms; do", File.ReadAllText(Path.Combine(Programs.Root, "docs", "guide", "authority.md")));
    }

    private static X509 Enrol(RunningService service, Scratch s)
    {
        var (status, body) = EstTests.Enrol(
            service,
            s,
            EstTests.Make(s, $"DNS:b{Guid.NewGuid().ToString("N")[..10]}.thistledown.example").Csr
        );
        Assert.True(status == "200", body);
        return X509.Read(Pkcs7.ReadCertificates(Convert.FromBase64String(body))[0]);
    }

    private static async Task<byte[]> FetchAsync(RunningService service)
    {
        using var http = new HttpClient();
        return await http.GetByteArrayAsync($"http://localhost:{service.PublicationPort}/crl/issuing.crl");
    }

    private static async Task<long> NumberAsync(RunningService service) => (long)Crl.Read(await FetchAsync(service)).Number!;
}
