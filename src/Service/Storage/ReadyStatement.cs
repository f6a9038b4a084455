using System.Collections.Concurrent;
using Microsoft.Data.Sqlite;

namespace OrderlyBeacon.Service.Storage;

/// <summary>One query that is prepared once, on plain connections of its own: for what every enrolment, or every question about an edition, asks.</summary>
/// <param name="parameters">The names of its parameters, in the order in which values come.</param>
internal sealed class ReadyStatement(BeaconOptions options, string sql, params string[] parameters) : IDisposable
{
    private readonly ConcurrentBag<SqliteCommand> _idle = [];

    /// <summary>What is made of the first row; <c>default</c> when there is none.</summary>
    /// <exception cref="SqliteException">The database cannot be read.</exception>
    public T? First<T>(Func<SqliteDataReader, T> read, params ReadOnlySpan<object> values)
    {
        if (!_idle.TryTake(out var c))
            c = Open();
        for (var i = 0; i < values.Length; i++)
            c.Parameters[i].Value = values[i];
        try
        {
            using var row = c.ExecuteReader();
            return row.Read() ? read(row) : default;
        }
        finally
        {
            _idle.Add(c);
        }
    }

    private SqliteCommand Open()
    {
        var connection = new SqliteConnection(Database.ConnectionString(options));
        connection.Open();
        var c = connection.CreateCommand();
        c.CommandText = sql;
        foreach (var p in parameters)
            c.Parameters.Add(new SqliteParameter { ParameterName = p });
        return c;
    }

    public void Dispose()
    {
        foreach (var c in _idle)
        {
            c.Connection!.Dispose();
            c.Dispose();
        }
    }
}
