using System.Net;
using System.Net.Http.Json;
using Microsoft.Data.Sqlite;
using OrderlyBeacon.Contracts;
using static OrderlyBeacon.Service.Tests.RunningService;

namespace OrderlyBeacon.Service.Tests;

/// <summary>A journal and requests of years: a search looks through so many at most in one answer, and all of them in the end.</summary>
public sealed class LongHistoryTests : IAsyncLifetime
{
    private const int Rows = 2 * LookBack.Most + 10_000,
        Rare = 17;

    private readonly RunningService _service = new();

    public async ValueTask InitializeAsync()
    {
        await _service.InitializeAsync();
        _service.KillHard();
        Fill(Path.Combine(_service.Data, "beacon.db"));
        await _service.StartAsync();
    }

    public ValueTask DisposeAsync() => _service.DisposeAsync();

    private static void Fill(string file)
    {
        using var db = new SqliteConnection($"Data Source={file};Pooling=False");
        db.Open();
        using var tx = db.BeginTransaction();
        const string numbers =
            "(WITH RECURSIVE n(value) AS (SELECT 1 UNION ALL SELECT value + 1 FROM n WHERE value < $rows) SELECT value FROM n)";
        Run(
            $"""
            INSERT INTO Journal SELECT value + (SELECT max(Sequence) FROM Journal), 1700000000000, 'robin', 'certificate.issued',
                'Host' || value || '.thistledown.example', CASE value WHEN {Rare} THEN '100% Rare_Bird' ELSE '1000 rare birds' END, '', hex(value)
            FROM {numbers}
            """
        );
        Run(
            $"""
            INSERT INTO Requests (Id, State, CertificateName, Profile, Requester, Cause, Subject, NamesJson, VerdictsJson, FindingsJson, Key, BindToJson, At, Version, AmendmentsJson, ApprovalsJson)
            SELECT value, 'issued', 'host' || value || '.thistledown.example', 'server', CASE value WHEN {Rare} THEN 'Wren' ELSE 'robin' END, 'person', '', '["dns:x.thistledown.example"]', '[]', '[]', 'ec-p256', '[]', 1700000000000, 1, '[]', '[]'
            FROM {numbers}
            """
        );
        tx.Commit();

        void Run(string sql)
        {
            using var c = db.CreateCommand();
            c.CommandText = sql;
            c.Parameters.AddWithValue("$rows", Rows);
            c.ExecuteNonQuery();
        }
    }

    [Fact]
    public async Task What_is_rare_and_old_is_found_step_by_step()
    {
        // In other capitals, and with what a pattern would take for any character.
        var (found, answers) = (new List<JournalEntryInfo>(), 0);
        for (string? before = ""; before is not null; answers++)
        {
            var page = await GetAsync(
                _service.Robin,
                $"/api/v1/journal?search={Uri.EscapeDataString("0% rARE_b")}&before={before}",
                BeaconJson.Default.PageJournalEntryInfo
            );
            found.AddRange(page.Items);
            before = page.Next;
        }
        Assert.Equal("100% Rare_Bird", Assert.Single(found).Detail);
        Assert.Equal(3, answers);
        // What is found at once is not searched for any longer.
        var newest = await GetAsync(_service.Robin, "/api/v1/journal?search=rare&take=3", BeaconJson.Default.PageJournalEntryInfo);
        Assert.Equal(3, newest.Items.Count);
        Assert.Equal(newest.Items[^1].Sequence.ToString(), newest.Next);
        var behind = await _service.Robin.GetAsync("/api/v1/journal?search=rare&after=5", TestContext.Current.CancellationToken);
        Assert.Contains("goes back", (await ProblemAsync(behind, HttpStatusCode.BadRequest)).Detail);

        var home = _service.Home();
        string Good(params string[] args)
        {
            var (code, output, error) = _service.Beacon(home, args);
            Assert.True(code == 0, output + error);
            return output;
        }
        Assert.Contains("100% Rare_Bird", Good("journal", "list", "100% rare"));
        Assert.Equal(7, Good("journal", "list", "rare", "--most", "7").Trim().Split('\n').Length);
        Assert.Contains($"host{Rare}.", Good("request", "list", "wren"));
        Assert.Equal("", Good("request", "list", "nowhere"));
        Assert.Equal(1200, Good("request", "list", "--most", "1200").Trim().Split('\n').Length);
        var old = await GetAsync(_service.Robin, $"/api/v1/requests/{Rare}", BeaconJson.Default.RequestInfo);
        Assert.Equal("Wren", old.Requester);
        var requests = await GetAsync(_service.Robin, "/api/v1/requests?search=WREN", BeaconJson.Default.PageRequestInfo);
        Assert.Empty(requests.Items);
        Assert.Equal((Rows - LookBack.Most + 1).ToString(), requests.Next);
    }
}
