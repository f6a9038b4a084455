using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Tests;

/// <summary>Rows as earlier versions wrote them, read after the migrations.</summary>
public sealed class MigrationTests
{
    private const string BeforeWords = "20261128133153_ServiceNames";

    [Fact]
    public async Task Numbers_become_the_words_that_they_meant()
    {
        var ct = TestContext.Current.CancellationToken;
        using var s = new Scratch();
        var source = $"Data Source={s["beacon.db"]};Pooling=False";
        await using var db = new BeaconDb(
            new DbContextOptionsBuilder<BeaconDb>().UseSqlite(source).Options,
            new WriteGate(),
            new(new BeaconOptions(), TimeProvider.System)
        );
        await db.GetService<IMigrator>().MigrateAsync(BeforeWords, ct);
        await using (var raw = new SqliteConnection(source))
        {
            raw.Open();
            var c = raw.CreateCommand();
            c.CommandText = """
                INSERT INTO Hosts (Id, Name, State, AddressesJson, EntriesJson) VALUES (1, 'a.example', 0, '[]', '[]'), (2, 'b.example', 1, '[]', '[]'), (3, 'c.example', 2, '[]', '[]');
                INSERT INTO Requests (Id, State, CertificateName, Profile, Requester, Cause, Subject, NamesJson, VerdictsJson, FindingsJson, Key, BindToJson, At, Version)
                VALUES (1, 3, 'a.example', 'server', 'robin', 'person', '', '[]', '[]', '[]', 'ec-p256', '[]', 0, 1), (2, 6, 'b.example', 'server', 'robin', 'person', '', '[]', '[]', '[]', 'ec-p256', '[]', 0, 1);
                INSERT INTO Orders (Id, HostId, Kind, State, ContentJson, StepsJson, LooksJson, At)
                VALUES (1, 2, 12, 0, '{"id":0,"kind":"preview"}', '[]', '[]', 0), (2, 2, 1, 4, '{"id":0,"kind":"bind"}', '[]', '[]', 0), (3, 2, 1, 2, '', '[]', '[]', 0);
                """;
            c.ExecuteNonQuery();
        }
        await db.Database.MigrateAsync(ct);

        Assert.Equal(
            [HostState.Invited, HostState.Joined, HostState.Removed],
            await db.Hosts.OrderBy(h => h.Id).Select(h => h.State).ToListAsync(ct)
        );
        Assert.Equal("b.example", (await db.Hosts.SingleAsync(h => h.State == HostState.Joined, ct)).Name);
        var requests = await db.Requests.OrderBy(r => r.Id).ToListAsync(ct);
        Assert.Equal([RequestState.WaitingForHost, RequestState.Withdrawn], requests.Select(r => r.State));
        // From before approvals there are none of them, not even a list.
        Assert.All(requests, r => Assert.Empty(r.Approvals));
        Assert.All(requests, r => Assert.Empty(r.Amendments));
        // A kind had been put between others meanwhile: what was ordered is what it says, not its number.
        var orders = await db.Orders.OrderBy(o => o.Id).ToListAsync(ct);
        Assert.Equal([OrderKind.Preview, OrderKind.Bind, OrderKind.Unknown], orders.Select(o => o.Kind));
        Assert.Equal([OrderState.Queued, OrderState.Cancelled, OrderState.Done], orders.Select(o => o.State));
        Assert.False(db.Database.HasPendingModelChanges());
        // A certificate's current edition is found by the certificate: all current ones would be read for each that is issued.
        foreach (
            var query in new[]
            {
                "UPDATE Editions SET State = 'previous' WHERE CertificateId = 5 AND State = 'current'",
                "SELECT * FROM Editions WHERE CertificateId = 5 AND State = 'current' AND NotAfter < 7",
                "SELECT * FROM Requests WHERE CertificateName = 'a.example' AND State = 'issued'",
            }
        )
            Assert.Contains("(Certificate", await PlanAsync(source, query));
        await using var words = new SqliteConnection(source);
        words.Open();
        var kept = words.CreateCommand();
        kept.CommandText = "SELECT group_concat(State || ' ' || Kind, ', ') FROM Orders";
        Assert.Equal("queued preview, cancelled bind, done unknown", kept.ExecuteScalar());
    }

    /// <summary>How SQLite would carry a statement out: which index it takes, and by which columns.</summary>
    private static async Task<string> PlanAsync(string source, string query)
    {
        await using var db = new SqliteConnection(source);
        db.Open();
        var c = db.CreateCommand();
        c.CommandText = "EXPLAIN QUERY PLAN " + query;
        await using var row = await c.ExecuteReaderAsync();
        Assert.True(await row.ReadAsync());
        return row.GetString(3);
    }
}
