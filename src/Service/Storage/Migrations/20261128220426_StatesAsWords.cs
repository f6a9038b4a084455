using System.Linq;
using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <summary>
    /// States and kinds become the words that travel: a number changes its meaning when a member is put between others. It happened to orders' kinds once; their contents say
    /// what they are.
    /// </summary>
    [DbContext(typeof(BeaconDb))]
    [Migration("20261128220426_StatesAsWords")]
    public class StatesAsWords : Migration
    {
        private static readonly (string Table, string Column, string[] Words)[] _columns =
        {
            ("Hosts", "State", new[] { "invited", "joined", "removed" }),
            ("Requests", "State", new[] { "draft", "waiting-for-approval", "waiting-outside", "waiting-for-host", "issued", "refused", "withdrawn" }),
            ("Editions", "State", new[] { "next", "current", "previous" }),
            ("Bindings", "State", new[] { "planned", "serving", "behind", "broken" }),
            ("Orders", "State", new[] { "queued", "taken", "done", "failed", "cancelled" }),
            ("Sweeps", "State", new[] { "running", "done", "stopped", "failed", "unknown" }),
            ("SweepFindings", "Protocol", new[] { "tls", "smtp", "imap", "pop3", "postgresql", "ftp", "ldap", "mysql", "xmpp", "unknown" }),
            ("TrustStores", "Kind", new[] { "system", "nss", "java", "file", "unknown" }),
            ("StoreMarks", "Mark", new[] { "pushed", "distrusted", "unknown" }),
            ("Providers", "Step", new[] { "unmanaged", "steady", "publishing", "waiting", "switching", "fading", "retiring", "held", "unknown" }),
        };

        // The planner took the index that begins with the state, and read all current editions for each that was issued.
        private static readonly (string Name, string Table)[] _narrow =
        {
            ("IX_Editions_CertificateId", "Editions"),
            ("IX_Requests_CertificateName", "Requests"),
        };

        private static readonly (string Name, string Table, string[] Columns)[] _wider =
        {
            ("IX_Editions_CertificateId_State_NotAfter", "Editions", new[] { "CertificateId", "State", "NotAfter" }),
            ("IX_Requests_CertificateName_State", "Requests", new[] { "CertificateName", "State" }),
        };

        private static readonly (string Name, string Table, string[] Columns)[] _indexes =
        {
            ("IX_Orders_HostId_State", "Orders", new[] { "HostId", "State" }),
            ("IX_Requests_State", "Requests", new[] { "State" }),
            ("IX_Editions_State_NotAfter_Profile_CertificateId", "Editions", new[] { "State", "NotAfter", "Profile", "CertificateId" }),
            ("IX_Bindings_State", "Bindings", new[] { "State" }),
            ("IX_Sweeps_State", "Sweeps", new[] { "State" }),
            ("IX_StoreMarks_Thumbprint_Mark", "StoreMarks", new[] { "Thumbprint", "Mark" }),
            ("IX_Providers_Step", "Providers", new[] { "Step" }),
        };

        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            foreach (var (name, table) in _indexes.Select(i => (i.Name, i.Table)).Concat(_narrow))
                migrationBuilder.DropIndex(name, table);
            foreach (var (table, column, words) in _columns)
            {
                var cases = words.Select((word, number) => $"WHEN {number} THEN '{word}'");
                Change(migrationBuilder, table, column, $"CASE {column} {string.Join(" ", cases)} END");
            }
            const string kind = "CASE WHEN json_valid(ContentJson) THEN coalesce(json_extract(ContentJson, '$.kind'), 'unknown') ELSE 'unknown' END";
            Change(migrationBuilder, "Orders", "Kind", kind);
            foreach (var (name, table, columns) in _indexes.Concat(_wider))
                migrationBuilder.CreateIndex(name, table, columns);
        }

        // The platform's way of changing a column's type copies the table outside of the transaction.
        private static void Change(MigrationBuilder migrationBuilder, string table, string column, string word)
        {
            migrationBuilder.Sql($"ALTER TABLE {table} ADD COLUMN {column}Word TEXT NOT NULL DEFAULT ''");
            migrationBuilder.Sql($"UPDATE {table} SET {column}Word = {word}");
            migrationBuilder.Sql($"ALTER TABLE {table} DROP COLUMN {column}");
            migrationBuilder.Sql($"ALTER TABLE {table} RENAME COLUMN {column}Word TO {column}");
        }
    }
}
