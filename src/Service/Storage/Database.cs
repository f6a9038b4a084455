using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Design;

namespace OrderlyBeacon.Service.Storage;

/// <summary>Where the database lies and how it is opened.</summary>
internal static class Database
{
    public static string ConnectionString(BeaconOptions options) =>
        new SqliteConnectionStringBuilder { DataSource = Path.Combine(options.Data, "beacon.db"), Mode = SqliteOpenMode.ReadWriteCreate, DefaultTimeout = 30 }.ToString();

    public static void Use(DbContextOptionsBuilder b, BeaconOptions options) => b.UseSqlite(ConnectionString(options)).AddInterceptors(new SqliteSettings());
}

/// <summary>For the tool that writes migrations.</summary>
internal sealed class DesignTimeDb : IDesignTimeDbContextFactory<BeaconDb>
{
    public BeaconDb CreateDbContext(string[] args)
    {
        var b = new DbContextOptionsBuilder<BeaconDb>();
        b.UseSqlite("Data Source=:memory:");
        return new BeaconDb(b.Options, new WriteGate());
    }
}
