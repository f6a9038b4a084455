using System.Reflection;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Design;
using Microsoft.EntityFrameworkCore.Diagnostics;
using Microsoft.EntityFrameworkCore.Migrations;

namespace OrderlyBeacon.Service.Storage;

/// <summary>Where the database lies and how it is opened.</summary>
internal static class Database
{
    public static string ConnectionString(BeaconOptions options) =>
        new SqliteConnectionStringBuilder
        {
            DataSource = Path.Combine(options.Data, "beacon.db"),
            Mode = SqliteOpenMode.ReadWriteCreate,
            DefaultTimeout = 30,
        }.ToString();

    public static void Use(DbContextOptionsBuilder b, BeaconOptions options) =>
        b.UseSqlite(ConnectionString(options))
            .AddInterceptors(new SqliteSettings())
            // Whether the migrations make the model is the same for every database: a test asks it, once, and not each that is founded.
            .ConfigureWarnings(w => w.Ignore(RelationalEventId.PendingModelChangesWarning));

    /// <summary>The last migration there is; a test sees to it.</summary>
    internal static readonly Type Newest = typeof(Migrations.StatesAsWords);

    /// <summary>Brings the tables up to date. That they are is seen from one row: to list the migrations, every type of the service would be loaded, at each start.</summary>
    public static async Task UpdateAsync(BeaconDb db, CancellationToken ct)
    {
        var connection = db.Database.GetDbConnection();
        await db.Database.OpenConnectionAsync(ct);
        try
        {
            await using var c = connection.CreateCommand();
            c.CommandText = "SELECT count(*) FROM sqlite_master WHERE name = '__EFMigrationsHistory'";
            if (await c.ExecuteScalarAsync(ct) is > 0L)
            {
                c.CommandText = "SELECT max(MigrationId) FROM __EFMigrationsHistory";
                if (await c.ExecuteScalarAsync(ct) as string == Newest.GetCustomAttribute<MigrationAttribute>()!.Id)
                    return;
            }
        }
        finally
        {
            await db.Database.CloseConnectionAsync();
        }
        await db.Database.MigrateAsync(ct);
    }
}

/// <summary>For the tool that writes migrations.</summary>
internal sealed class DesignTimeDb : IDesignTimeDbContextFactory<BeaconDb>
{
    public BeaconDb CreateDbContext(string[] args)
    {
        var b = new DbContextOptionsBuilder<BeaconDb>();
        b.UseSqlite("Data Source=:memory:");
        return new BeaconDb(b.Options, new WriteGate(), new(new BeaconOptions(), TimeProvider.System));
    }
}
