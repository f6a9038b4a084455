using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(BeaconDb))]
    [Migration("20261126142837_Rights")]
    public class Rights : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<long>(
                name: "ProvedAt",
                table: "Sessions",
                type: "INTEGER",
                nullable: false,
                defaultValue: 0L);

            migrationBuilder.AddColumn<string>(
                name: "AgentNextThumbprint",
                table: "Hosts",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "AgentThumbprint",
                table: "Hosts",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "MetJson",
                table: "Hosts",
                type: "TEXT",
                nullable: false,
                defaultValue: "{}");

            migrationBuilder.AddColumn<string>(
                name: "Owner",
                table: "Hosts",
                type: "TEXT",
                nullable: false,
                defaultValue: "group:administrators");

            migrationBuilder.AddColumn<string>(
                name: "DecisionJson",
                table: "Editions",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<bool>(
                name: "HasEdition",
                table: "Certificates",
                type: "INTEGER",
                nullable: false,
                defaultValue: false);

            migrationBuilder.CreateTable(
                name: "BurntKeys",
                columns: table => new
                {
                    Fingerprint = table.Column<string>(type: "TEXT", nullable: false),
                    Serial = table.Column<string>(type: "TEXT", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_BurntKeys", x => x.Fingerprint);
                });

            migrationBuilder.CreateTable(
                name: "Consents",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    Operation = table.Column<string>(type: "TEXT", nullable: false),
                    Hash = table.Column<string>(type: "TEXT", nullable: false),
                    About = table.Column<string>(type: "TEXT", nullable: false),
                    Body = table.Column<string>(type: "TEXT", nullable: false),
                    By = table.Column<string>(type: "TEXT", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false),
                    ConsentedBy = table.Column<string>(type: "TEXT", nullable: true),
                    UsedAt = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Consents", x => x.Id);
                });

            migrationBuilder.Sql("UPDATE Certificates SET HasEdition = 1 WHERE EXISTS (SELECT 1 FROM Editions e WHERE e.CertificateId = Certificates.Id)");
            // An agent is known by its row from now on: the newest edition of its own certificate, where that is the host's own.
            migrationBuilder.Sql(
                """
                UPDATE Hosts SET AgentThumbprint = (
                    SELECT e.Thumbprint FROM Editions e JOIN Certificates c ON c.Id = e.CertificateId
                    WHERE c.HostId = Hosts.Id AND c.Owner = 'agent:' || Hosts.Name AND e.Profile = 'agent' AND e.State = 1 AND e.RevokedAt IS NULL
                    ORDER BY e.Id DESC LIMIT 1)
                WHERE State = 1
                """
            );
            migrationBuilder.Sql(
                "INSERT OR IGNORE INTO BurntKeys (Fingerprint, Serial, At) SELECT KeyFingerprint, Serial, RevokedAt FROM Editions WHERE RevokedAt IS NOT NULL AND RevocationReason IN (1, 2)"
            );

            migrationBuilder.CreateIndex(
                name: "IX_Requests_CertificateName",
                table: "Requests",
                column: "CertificateName");

            migrationBuilder.CreateIndex(
                name: "IX_Hosts_AgentNextThumbprint",
                table: "Hosts",
                column: "AgentNextThumbprint",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Hosts_AgentThumbprint",
                table: "Hosts",
                column: "AgentThumbprint",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Certificates_Owner",
                table: "Certificates",
                column: "Owner");

            migrationBuilder.CreateIndex(
                name: "IX_Consents_Hash",
                table: "Consents",
                column: "Hash");

            // By hand: the builder would make these two tables anew outside of the transaction, and a death in between would leave half of it.
            migrationBuilder.Sql("ALTER TABLE People DROP COLUMN Failures");
            // Not renamed: who was locked for a while has not left.
            migrationBuilder.Sql("ALTER TABLE People DROP COLUMN LockedUntil");

            migrationBuilder.AddColumn<long>(
                name: "LeftAt",
                table: "People",
                type: "INTEGER",
                nullable: true);

            // Kept answers may hold secrets in clear; whatever is asked again is carried out again at most.
            migrationBuilder.DropTable(name: "AnsweredPosts");

            migrationBuilder.CreateTable(
                name: "AnsweredPosts",
                columns: table => new
                {
                    Key = table.Column<string>(type: "TEXT", nullable: false),
                    BodyHash = table.Column<string>(type: "TEXT", nullable: false),
                    Status = table.Column<int>(type: "INTEGER", nullable: false),
                    ContentType = table.Column<string>(type: "TEXT", nullable: false),
                    Body = table.Column<byte[]>(type: "BLOB", nullable: true),
                    At = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_AnsweredPosts", x => x.Key);
                });
        }
    }
}
