using System.Diagnostics;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Service;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Benchmarks;

/// <summary>A million issued editions: our queries beside bare ones over the same index, through the same driver.</summary>
internal static class Table
{
    private const string Row = "e.Serial, e.Profile, e.NotBefore, e.NotAfter, e.State";
    private const int Certificates = 250_000,
        EditionsEach = 4;

    public static async Task RunAsync(Action<string, double, double, string> atMost)
    {
        Console.WriteLine("\nThe issued editions at 1,000,000 rows");
        var folder = Directory.CreateTempSubdirectory("beacon-table-").FullName;
        try
        {
            var source = $"Data Source={Path.Combine(folder, "beacon.db")}";
            await using (
                var db = new BeaconDb(
                    new DbContextOptionsBuilder<BeaconDb>().UseSqlite(source).Options,
                    new WriteGate(),
                    new(new BeaconOptions(), TimeProvider.System)
                )
            )
                await db.Database.MigrateAsync();
            var start = DateTimeOffset.UnixEpoch.AddYears(56).ToUnixTimeMilliseconds();
            Fill(source, start);
            using var table = new IssuedTable(source);
            using var bare = new SqliteConnection(source);
            bare.Open();
            var random = new Random(7);
            Compare(
                "by serial",
                3000,
                $"SELECT {Row} FROM Editions e WHERE e.Serial = $a",
                _ => [SerialOf(random.Next(Certificates * EditionsEach))],
                a => table.BySerial(new SerialNumber((string)a[0])).Count,
                1
            );
            Compare(
                "by name (beginning of it, 40 rows)",
                1000,
                $"SELECT {Row} FROM Certificates c CROSS JOIN Editions e ON e.CertificateId = c.Id WHERE c.Name >= $a AND c.Name < $b ORDER BY c.Name LIMIT 100",
                _ => NameRange(random.Next(Certificates / 10)),
                a => table.ByName((string)a[0], 100).Count,
                40
            );
            Compare(
                "ends between (100 rows)",
                1000,
                $"SELECT {Row} FROM Editions e WHERE e.NotAfter >= $a AND e.NotAfter < $b ORDER BY e.NotAfter LIMIT 100",
                _ => start + random.Next(900_000) * 60_000L is var from ? [from, from + 86_400_000L] : [],
                a =>
                    table
                        .EndingBetween(
                            DateTimeOffset.FromUnixTimeMilliseconds((long)a[0]),
                            DateTimeOffset.FromUnixTimeMilliseconds((long)a[1]),
                            100
                        )
                        .Count,
                100
            );

            void Compare(string what, int times, string sql, Func<int, object[]> pick, Func<object[], int> ours, int rows)
            {
                using var c = bare.CreateCommand();
                c.CommandText = sql;
                foreach (var n in new[] { "$a", "$b" })
                    c.Parameters.Add(new SqliteParameter { ParameterName = n, Value = DBNull.Value });
                var picks = Enumerable.Range(0, times).Select(pick).ToList();
                var (mine, theirs) = (double.MaxValue, double.MaxValue);
                for (var round = 0; round < 7; round++)
                {
                    var clock = Stopwatch.StartNew();
                    foreach (var p in picks)
                    {
                        for (var i = 0; i < p.Length; i++)
                            c.Parameters[i].Value = p[i];
                        using var r = c.ExecuteReader();
                        var n = 0;
                        while (r.Read())
                        {
                            // The row is read, no more: nothing is made of it.
                            r.GetString(0);
                            r.GetString(1);
                            r.GetInt64(2);
                            r.GetInt64(3);
                            r.GetString(4);
                            n++;
                        }
                        if (n != rows)
                            throw new InvalidOperationException($"{what}: {n} rows instead of {rows}");
                    }
                    theirs = Math.Min(theirs, clock.Elapsed.TotalMicroseconds / times);
                    clock.Restart();
                    foreach (var p in picks)
                        if (ours(p) != rows)
                            throw new InvalidOperationException($"{what}: other rows");
                    mine = Math.Min(mine, clock.Elapsed.TotalMicroseconds / times);
                }
                atMost($"{what}: ours {mine:0.0} µs, bare {theirs:0.0} µs", mine / theirs, 1.5, "×");
            }
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    private static object[] NameRange(int tens) => [$"host{tens:00000}", $"host{tens:00000}\uffff"];

    private static string SerialOf(int n) =>
        Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(BitConverter.GetBytes(n)).AsSpan(0, 16)).Insert(0, "4A")[..32];

    private static void Fill(string source, long start)
    {
        using var connection = new SqliteConnection(source);
        connection.Open();
        using (var pragma = connection.CreateCommand())
        {
            pragma.CommandText = "PRAGMA journal_mode=OFF; PRAGMA synchronous=OFF; PRAGMA cache_size=-400000; PRAGMA foreign_keys=OFF";
            pragma.ExecuteNonQuery();
        }
        using var tx = connection.BeginTransaction();
        using var certificate = connection.CreateCommand();
        certificate.CommandText =
            "INSERT INTO Certificates (Id, Name, Profile, Subject, NamesJson, Key, Owner, ApprovedJson, RenewAfter, NewKey, Automatic, Failures, Version) VALUES ($id, $name, 'server', '', '[]', 'ec-p256', 'robin', '[]', 0.66, 1, 0, 0, 1)";
        using var edition = connection.CreateCommand();
        edition.CommandText =
            "INSERT INTO Editions (CertificateId, GenerationId, Serial, Thumbprint, KeyFingerprint, Profile, ProfileRevision, Der, IssuedAt, NotBefore, NotAfter, State) VALUES ($c, 1, $serial, $thumb, $key, 'server', 1, $der, $at, $at, $to, 'current')";
        foreach (
            var (c, names) in new[]
            {
                (certificate, new[] { "$id", "$name" }),
                (edition, ["$c", "$serial", "$thumb", "$key", "$der", "$at", "$to"]),
            }
        )
        foreach (var n in names)
            c.Parameters.Add(new SqliteParameter { ParameterName = n, Value = DBNull.Value });
        var der = new byte[500];
        var clock = Stopwatch.StartNew();
        for (var i = 0; i < Certificates; i++)
        {
            (certificate.Parameters[0].Value, certificate.Parameters[1].Value) = (i + 1, $"host{i:000000}.thistledown.example");
            certificate.ExecuteNonQuery();
            for (var k = 0; k < EditionsEach; k++)
            {
                var n = i * EditionsEach + k;
                var serial = SerialOf(n);
                object[] values = [i + 1, serial, serial + "00", serial + "11", der, start - 86_400_000L * 90, start + n * 60_000L];
                for (var v = 0; v < values.Length; v++)
                    edition.Parameters[v].Value = values[v];
                edition.ExecuteNonQuery();
            }
        }
        tx.Commit();
        using var analyze = connection.CreateCommand();
        analyze.CommandText = "ANALYZE";
        analyze.ExecuteNonQuery();
        Console.WriteLine($"  filled in {clock.Elapsed.TotalSeconds:0} s, {new FileInfo(connection.DataSource).Length / 1e6:0} MB");
    }
}
