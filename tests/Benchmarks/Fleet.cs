using System.Diagnostics;
using Microsoft.Data.Sqlite;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Benchmarks;

/// <summary>A service with 10,000 hosts and 30,000 services: what its lists cost beside the bare query of the same rows, how large they are, and what the service weighs.</summary>
internal static class Fleet
{
    private const int Hosts = 10_000,
        EachHas = 3,
        // Calls after which the runtime has compiled what is hot for good.
        Settled = 400;

    private static readonly string[] Faults = ["plain-only", "self-signed", "name-missing"];

    /// <summary>A list, and the same rows asked of the database alone.</summary>
    private sealed record Case(string What, string Path, string Sql, double Limit = 5);

    // An answer has what is bound with it.
    private const string Columns =
        "s.Name, h.Name, s.NamesJson, s.EndpointsJson, s.PlacesJson, s.LooksJson, s.ServedSerial, s.ServedUntil, "
        + "(SELECT b.State || b.WantedSerial || b.SeenSerial || c.Name FROM Bindings b JOIN Certificates c ON c.Id = b.CertificateId WHERE b.ServiceId = s.Id)";
    private const string From = "FROM Hosts h CROSS JOIN Services s ON s.HostId = h.Id WHERE h.State = 'joined'";

    private const string Certificate =
        "c.*, e.Serial, e.NotBefore, e.NotAfter, (SELECT Name FROM Hosts WHERE Id = c.HostId), (SELECT count(*) FROM Editions WHERE CertificateId = c.Id), "
        + "(SELECT max(h.Name || s.Name || b.SeenSerial) FROM Bindings b JOIN Services s ON s.Id = b.ServiceId JOIN Hosts h ON h.Id = s.HostId WHERE b.CertificateId = c.Id), "
        + "(SELECT count(*) FROM Orders WHERE CertificateId = c.Id AND State IN ('queued', 'taken'))";
    private const string Current =
        "FROM Certificates c CROSS JOIN Editions e ON e.CertificateId = c.Id AND e.State = 'current' WHERE c.Profile <> 'agent'";

    private static readonly IReadOnlyList<Case> Cases =
    [
        new("services, first page", "services?take=50", $"SELECT {Columns} {From} ORDER BY h.Name, s.Name LIMIT 50"),
        new(
            "services, a page in the middle",
            "services?take=50&after=h05000.fleet.example/s1.h05000.fleet.example",
            $"SELECT {Columns} {From} AND h.Name >= 'h05000.fleet.example' ORDER BY h.Name, s.Name LIMIT 52"
        ),
        new(
            "services, soonest to end",
            "services?take=50&sort=ends",
            $"SELECT {Columns} FROM Services s JOIN Hosts h ON h.Id = s.HostId WHERE s.ServedUntil IS NOT NULL ORDER BY s.ServedUntil LIMIT 50"
        ),
        new(
            "services, self-signed",
            "services?take=50&state=self-signed",
            $"SELECT {Columns} {From} AND s.Fault = 'self-signed' ORDER BY h.Name, s.Name LIMIT 50"
        ),
        new(
            "services that need a hand",
            "services?take=50&state=needs-a-hand",
            $"SELECT {Columns} FROM Concerns c JOIN Services s ON s.Id = c.SubjectId JOIN Hosts h ON h.Id = s.HostId WHERE c.Of = 'service' ORDER BY h.Name, s.Name LIMIT 50"
        ),
        new("certificates, first page", "certificates?take=50", $"SELECT {Certificate} {Current} ORDER BY c.Name LIMIT 50"),
        new(
            "certificates, soonest to end",
            "certificates?take=50&sort=ends",
            $"SELECT {Certificate} FROM Editions e CROSS JOIN Certificates c ON c.Id = e.CertificateId WHERE e.State = 'current' ORDER BY e.NotAfter LIMIT 50"
        ),
        new(
            "certificates, worst first",
            "certificates?take=50&sort=severity",
            $"""
            SELECT * FROM (SELECT {Certificate} FROM Concerns x CROSS JOIN Certificates c ON c.Id = x.SubjectId CROSS JOIN Editions e ON e.CertificateId = c.Id AND e.State = 'current' WHERE x.Of = 'certificate' ORDER BY x.Severity DESC, c.Name)
            UNION ALL SELECT * FROM (SELECT {Certificate} {Current} AND c.Id NOT IN (SELECT SubjectId FROM Concerns WHERE Of = 'certificate') ORDER BY c.Name LIMIT 50) LIMIT 50
            """
        ),
        new(
            "certificates whose renewal failed",
            "certificates?take=50&state=renewal-failed",
            $"SELECT {Certificate} FROM Concerns x CROSS JOIN Certificates c ON c.Id = x.SubjectId CROSS JOIN Editions e ON e.CertificateId = c.Id AND e.State = 'current' WHERE x.Of = 'certificate' AND x.Kind = 'renewal-failed' ORDER BY c.Name LIMIT 50"
        ),
        new(
            "certificates of a profile",
            "certificates?take=50&profile=server",
            $"SELECT {Certificate} {Current} AND c.Profile = 'server' ORDER BY c.Name LIMIT 50"
        ),
        new(
            "certificates, search",
            "certificates?take=50&search=h0777",
            $"SELECT {Certificate} {Current} AND c.NamesJson LIKE '%h0777%' ORDER BY c.Name LIMIT 50"
        ),
        new(
            "services of one host",
            "services?take=50&host=h07777.fleet.example",
            $"SELECT {Columns} {From} AND h.Name = 'h07777.fleet.example' ORDER BY h.Name, s.Name LIMIT 50"
        ),
        new(
            "services, search",
            "services?take=50&search=h0777",
            $"SELECT {Columns} {From} AND s.NamesJson LIKE '%h0777%' ORDER BY h.Name, s.Name LIMIT 50"
        ),
        new("hosts, first page", "hosts?take=50", "SELECT * FROM Hosts h WHERE h.State <> 'removed' ORDER BY h.Name LIMIT 50"),
        new(
            "hosts, a page in the middle",
            "hosts?take=50&after=h05000.fleet.example",
            "SELECT * FROM Hosts h WHERE h.Name > 'h05000.fleet.example' ORDER BY h.Name LIMIT 50"
        ),
        new(
            "stores, by a certificate's fingerprint",
            $"store?search={StoredThumbprint(77_777)}",
            $"{Stored} e.Thumbprint = '{StoredThumbprint(77_777)}'",
            3
        ),
        new("stores, by a key's fingerprint", $"store?search={StoredKey(123_456)}", $"{Stored} e.Key = '{StoredKey(123_456)}'", 3),
        new(
            "stores, by the beginning of a name",
            "store?take=50&search=e7.h0777",
            $"{Stored} e.Certificate >= 'e7.h0777' AND e.Certificate < 'e7.h0778' ORDER BY e.Id LIMIT 50",
            3
        ),
        new("stores, by issuer", "store?take=50&issuer=Old%20Office", $"{Stored} e.Issuer = 'CN=Old Office' ORDER BY e.Id LIMIT 50", 3),
    ];

    /// <summary>What the answer has: the entry, its host, and what its certificate is bound to.</summary>
    private const string Stored =
        "SELECT e.*, h.Name, (SELECT group_concat(s.Name) FROM Certificates c JOIN Bindings b ON b.CertificateId = c.Id JOIN Services s ON s.Id = b.ServiceId WHERE c.Name = e.Certificate AND c.HostId = e.HostId) FROM StoredEntries e JOIN Hosts h ON h.Id = e.HostId WHERE";

    private const int EntriesEach = 20;

    private static string StoredThumbprint(int n) => $"7e{n:x62}";

    private static string StoredKey(int n) => $"3a{n:x62}";

    public static async Task RunAsync(string output, Action<string, double, double, string> atMost)
    {
        Console.WriteLine($"\nA fleet of {Hosts:N0} hosts and {Hosts * EachHas:N0} services");
        using var service = await RunningService.StartAsync(output, "ec-p256");
        var source = $"Data Source={Path.Combine(service.Data, "beacon.db")}";
        Fill(source);
        await service.RestartAsync();
        using var http = await service.SignedInAsync();
        using var bare = new SqliteConnection(source);
        bare.Open();
        await JudgedAsync(bare);
        // What any call costs: TLS, HTTP, who asks and whether they may.
        var (empty, _) = await TimeAsync(http, "session", Settled);
        foreach (var c in Cases)
            await CompareAsync(http, bare, c, empty, atMost);
        var (today, size) = await TimeAsync(http, "today", Settled);
        Console.WriteLine($"  today: {today:0} ms, {size / 1024.0:0} kB");
        atMost("the service then weighs", RunningService.Resident(service.Id), 250, "MB");
        if (Environment.GetEnvironmentVariable("BEACON_HOLD") is not null)
        {
            Console.WriteLine($"  {service.Url} {service.PasswordFile}; a line ends it");
            Console.ReadLine();
        }
    }

    /// <summary>The first rounds judge what was filled in past the service.</summary>
    private static async Task JudgedAsync(SqliteConnection bare)
    {
        using var left = bare.CreateCommand();
        left.CommandText =
            "SELECT (SELECT count(*) FROM Certificates WHERE JudgeAt = 0) + (SELECT count(*) FROM Services WHERE JudgeAt = 0)";
        var clock = Stopwatch.StartNew();
        while (left.ExecuteScalar() is > 0L)
            await Task.Delay(200);
        Console.WriteLine($"  all judged for the first time in {clock.Elapsed.TotalSeconds:0} s");
    }

    private static async Task CompareAsync(
        HttpClient http,
        SqliteConnection bare,
        Case c,
        double empty,
        Action<string, double, double, string> atMost
    )
    {
        var (ours, size) = await TimeAsync(http, c.Path, Settled);
        var theirs = double.MaxValue;
        using var command = bare.CreateCommand();
        command.CommandText = c.Sql;
        for (var i = 0; i < 60; i++)
        {
            var clock = Stopwatch.StartNew();
            using var r = command.ExecuteReader();
            while (r.Read())
                for (var f = 0; f < r.FieldCount; f++)
                    _ = r.GetValue(f);
            theirs = Math.Min(theirs, clock.Elapsed.TotalMilliseconds);
        }
        atMost(
            $"{c.What}: ours {ours:0.0} ms, bare {theirs:0.00} ms and an empty call {empty:0.0} ms",
            ours / (theirs + empty),
            c.Limit,
            "×"
        );
        atMost($"{c.What}: an answer of", size / 1024.0, 200, "kB");
    }

    private static async Task<(double Milliseconds, int Bytes)> TimeAsync(HttpClient http, string path, int times)
    {
        var (best, size) = (double.MaxValue, 0);
        for (var i = 0; i < times; i++)
        {
            var clock = Stopwatch.StartNew();
            using var answer = await http.GetAsync("/api/v1/" + path);
            size = (await answer.EnsureSuccessStatusCode().Content.ReadAsByteArrayAsync()).Length;
            best = Math.Min(best, clock.Elapsed.TotalMilliseconds);
        }
        return (best, size);
    }

    private static void Fill(string source)
    {
        using var connection = new SqliteConnection(source);
        connection.Open();
        using var tx = connection.BeginTransaction();
        using var host = connection.CreateCommand();
        host.CommandText =
            "INSERT INTO Hosts (Id, Name, State, LastSeen, AgentVersion, AddressesJson, EntriesJson, Owner, MetJson) VALUES ($id, $name, 'joined', $at, '0.2', '[\"192.0.2.1\"]', '[]', 'group:administrators', '{}')";
        using var row = connection.CreateCommand();
        row.CommandText =
            "INSERT INTO Services (Id, HostId, Name, Connector, NamesJson, EndpointsJson, PlacesJson, LooksJson, Fault, ServedSerial, ServedFrom, ServedUntil, JudgeAt) VALUES ($id, $host, $name, 'nginx', $names, $ends, $places, $looks, $fault, $serial, $at, $until, 0)";
        using var certificate = connection.CreateCommand();
        certificate.CommandText =
            "INSERT INTO Certificates (Id, Name, HostId, Profile, Subject, NamesJson, Key, Owner, ApprovedJson, RenewAfter, NewKey, Automatic, Failures, LastError, RetryAt, HasEdition, NextActionAt, JudgeAt, Version) VALUES ($id, $name, $host, 'server', '', $names, 'ec-p256', 'robin', '[]', 0.66, 1, 1, $failures, 'nginx did not take it.', $next, 1, $next, 0, 1)";
        using var named = connection.CreateCommand();
        named.CommandText = "INSERT INTO CertificateNames (CertificateId, Name) VALUES ($id, $name)";
        using var known = connection.CreateCommand();
        known.CommandText = "INSERT INTO ServiceNames (ServiceId, Name) VALUES ($id, $name)";
        using var binding = connection.CreateCommand();
        binding.CommandText =
            "INSERT INTO Bindings (CertificateId, ServiceId, State, WantedSerial, SeenSerial, SeenAt) VALUES ($c, $s, 'serving', $serial, $serial, $at)";
        using var edition = connection.CreateCommand();
        edition.CommandText =
            "INSERT INTO Editions (CertificateId, GenerationId, Serial, Thumbprint, KeyFingerprint, Profile, ProfileRevision, Der, IssuedAt, NotBefore, NotAfter, State) VALUES ($c, 1, $serial, $serial, $serial, 'server', 1, x'3000', $at, $at, $until, $state)";
        var at = DateTimeOffset.UtcNow.ToUnixTimeMilliseconds();
        for (var h = 0; h < Hosts; h++)
        {
            var name = $"h{h:00000}.fleet.example";
            Run(host, ("$id", h + 1), ("$name", name), ("$at", at));
            for (var s = 0; s < EachHas; s++)
            {
                var n = h * EachHas + s;
                var until = at + (1 + n % 89) * 86_400_000L + n % 1000 * 60_000L;
                Run(
                    certificate,
                    ("$id", 1000 + n),
                    ("$name", $"s{s}.{name}"),
                    ("$host", h + 1),
                    ("$names", $"[\"s{s}.{name}\"]"),
                    ("$failures", n % 1500 == 7 ? 2 : 0),
                    ("$next", until - 86_400_000L / 2)
                );
                // Every tenth is not ours yet.
                if (n % 10 != 0)
                    Run(binding, ("$c", 1000 + n), ("$s", n + 1), ("$serial", $"4A{n:X30}"), ("$at", at));
                Run(named, ("$id", 1000 + n), ("$name", $"s{s}.{name}"));
                Run(edition, ("$c", 1000 + n), ("$serial", $"4A{n:X30}"), ("$at", at), ("$until", until), ("$state", "current"));
                // What was before it.
                foreach (var old in new[] { "4C", "4D" })
                    Run(
                        edition,
                        ("$c", 1000 + n),
                        ("$serial", $"{old}{n:X30}"),
                        ("$at", at - 90 * 86_400_000L),
                        ("$until", at),
                        ("$state", "previous")
                    );
                var fault = n % 500 == 0 ? Faults[n / 500 % Faults.Length] : null;
                Run(
                    row,
                    ("$id", n + 1),
                    ("$host", h + 1),
                    ("$name", $"s{s}.{name}"),
                    ("$names", $"[\"s{s}.{name}\",\"www.s{s}.{name}\"]"),
                    (
                        "$ends",
                        "[{\"address\":\"192.0.2.1\",\"port\":443,\"tls\":true},{\"address\":\"192.0.2.1\",\"port\":80,\"tls\":false}]"
                    ),
                    ("$places", $"[\"/etc/nginx/sites/s{s}.conf:2\"]"),
                    ("$looks", LooksOf($"s{s}.{name}", fault)),
                    ("$fault", fault),
                    ("$serial", n % 10 == 0 ? $"4B{n:X30}" : $"4A{n:X30}"),
                    ("$at", at),
                    ("$until", until)
                );
                foreach (var served in new[] { $"s{s}.{name}", $"www.s{s}.{name}" })
                    Run(known, ("$id", n + 1), ("$name", served));
            }
        }
        FillStores(connection, at);
        tx.Commit();
    }

    private static void FillStores(SqliteConnection connection, long at)
    {
        using var entry = connection.CreateCommand();
        entry.CommandText =
            "INSERT INTO StoredEntries (HostId, Certificate, Serial, Thumbprint, Key, Issuer, NotAfter, InUse, Releasable, Archived) VALUES ($host, $name, $serial, $thumb, $key, $issuer, $until, $use, 0, 0)";
        for (var h = 0; h < Hosts; h++)
        for (var i = 0; i < EntriesEach; i++)
        {
            var n = h * EntriesEach + i;
            Run(
                entry,
                ("$host", h + 1),
                ("$name", i < EachHas ? $"s{i}.h{h:00000}.fleet.example" : $"e{i}.h{h:00000}.fleet.example"),
                ("$serial", $"4E{n:X30}"),
                ("$thumb", StoredThumbprint(n)),
                ("$key", StoredKey(n)),
                ("$issuer", n % 1000 == 0 ? "CN=Old Office" : "CN=Thistledown Rail Issuing,O=Thistledown Rail"),
                ("$until", at + n),
                ("$use", i < EachHas)
            );
        }
    }

    private static string LooksOf(string name, string? fault)
    {
        var problems = fault is null
            ? "[]"
            : $"[{{\"fault\":\"{fault}\",\"severity\":\"now\",\"reason\":\"The certificate is not accepted.\",\"hurts\":\"Browsers warn; programs refuse.\",\"cure\":\"Request one from our authority and bind it.\"}}]";
        var severity = fault is null ? "fine" : "now";
        return $"[{{\"address\":\"192.0.2.1\",\"port\":443,\"serverName\":\"{name}\",\"at\":\"2026-11-26T12:00:00+00:00\",\"outcome\":\"served\",\"protocol\":\"TLS 1.3\",\"accepted\":{(fault is null ? "true" : "false")},\"severity\":\"{severity}\",\"problems\":{problems},\"chainSteps\":[\"{name} was issued by Thistledown Rail Issuing.\",\"Thistledown Rail Issuing was issued by Thistledown Rail Root.\",\"Thistledown Rail Root is a trust anchor.\"],\"served\":null,\"from\":\"h.fleet.example\"}}]";
    }

    private static void Run(SqliteCommand command, params (string Name, object? Value)[] values)
    {
        foreach (var (name, value) in values)
            if (command.Parameters.Contains(name))
                command.Parameters[name].Value = value ?? DBNull.Value;
            else
                command.Parameters.AddWithValue(name, value ?? DBNull.Value);
        command.ExecuteNonQuery();
    }
}
