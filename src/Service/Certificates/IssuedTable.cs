using System.Collections.Concurrent;
using Microsoft.Data.Sqlite;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Service.Certificates;

/// <summary>
/// Finds editions among millions: by serial, by the beginning of a certificate's name, or by when they end. Each is one range of one index, on plain connections
/// with prepared statements.
/// </summary>
public sealed class IssuedTable(string connectionString) : IDisposable
{
    /// <summary>A page has at most this many rows.</summary>
    public const int Most = 1000;

    private const string Columns = "c.Name, e.Serial, e.Profile, e.NotBefore, e.NotAfter, e.State, e.RevokedAt, e.RevocationReason";

    // The join is a cross join so that the planner starts with the index that is meant. How many rows are wanted is no parameter: SQLite plans anew whenever one of a LIMIT is bound.
    private static readonly string[] Statements =
    [
        $"SELECT {Columns} FROM Editions e CROSS JOIN Certificates c ON c.Id = e.CertificateId WHERE e.Serial = $a LIMIT 1",
        $"SELECT {Columns} FROM Certificates c CROSS JOIN Editions e ON e.CertificateId = c.Id WHERE c.Name >= $a AND c.Name < $b ORDER BY c.Name",
        $"SELECT {Columns} FROM Editions e CROSS JOIN Certificates c ON c.Id = e.CertificateId WHERE e.NotAfter >= $a AND e.NotAfter < $b ORDER BY e.NotAfter",
    ];

    private readonly ConcurrentBag<SqliteCommand>[] _idle =
    [
        [],
        [],
        [],
    ];

    public IReadOnlyList<IssuedEdition> BySerial(SerialNumber serial) => Run(0, serial.Hex, null, 1);

    /// <param name="prefix">In small letters, as names are kept.</param>
    public IReadOnlyList<IssuedEdition> ByName(string prefix, int take) => Run(1, prefix, prefix + "\uffff", take);

    public IReadOnlyList<IssuedEdition> EndingBetween(DateTimeOffset from, DateTimeOffset to, int take) =>
        Run(2, from.ToUnixTimeMilliseconds(), to.ToUnixTimeMilliseconds(), take);

    private List<IssuedEdition> Run(int which, object a, object? b, int take)
    {
        if (!_idle[which].TryTake(out var c))
            c = Open(Statements[which]);
        c.Parameters[0].Value = a;
        c.Parameters[1].Value = b ?? DBNull.Value;
        try
        {
            var found = new List<IssuedEdition>();
            var most = Math.Clamp(take, 1, Most);
            using var r = c.ExecuteReader();
            while (found.Count < most && r.Read())
                found.Add(
                    new(
                        r.GetString(0),
                        r.GetString(1),
                        r.GetString(2),
                        Time(r.GetInt64(3)),
                        Time(r.GetInt64(4)),
                        OpenWord<EditionState>.Of(r.GetString(5)),
                        r.IsDBNull(6) ? null : Time(r.GetInt64(6)),
                        r.IsDBNull(6) ? null : BeaconProblem.SlugOf((RevocationReason)(r.IsDBNull(7) ? 0 : r.GetInt32(7)))
                    )
                );
            return found;
        }
        finally
        {
            _idle[which].Add(c);
        }

        static DateTimeOffset Time(long ms) => DateTimeOffset.FromUnixTimeMilliseconds(ms);
    }

    private SqliteCommand Open(string sql)
    {
        var connection = new SqliteConnection(connectionString);
        connection.Open();
        using (var mapped = connection.CreateCommand())
        {
            // What is looked for lies anywhere in the file: reading it through a map spares a call for each page.
            mapped.CommandText = "PRAGMA mmap_size=2147418112";
            mapped.ExecuteNonQuery();
        }
        var c = connection.CreateCommand();
        c.CommandText = sql;
        foreach (var name in new[] { "$a", "$b" })
            c.Parameters.Add(new SqliteParameter { ParameterName = name, Value = DBNull.Value });
        return c;
    }

    public void Dispose()
    {
        foreach (var c in _idle.SelectMany(b => b))
        {
            c.Connection!.Dispose();
            c.Dispose();
        }
    }
}
