using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(BeaconDb))]
    [Migration("20261128064713_Providers")]
    public class Providers : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Partners",
                columns: table => new
                {
                    Id = table.Column<int>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    ProviderId = table.Column<int>(type: "INTEGER", nullable: false),
                    Entity = table.Column<string>(type: "TEXT", nullable: false),
                    AddressesJson = table.Column<string>(type: "TEXT", nullable: false),
                    FetchedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    WordBy = table.Column<string>(type: "TEXT", nullable: true),
                    WordAt = table.Column<long>(type: "INTEGER", nullable: true),
                    Word = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Partners", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Providers",
                columns: table => new
                {
                    Id = table.Column<int>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    HostId = table.Column<int>(type: "INTEGER", nullable: false),
                    Instance = table.Column<string>(type: "TEXT", nullable: false),
                    Entity = table.Column<string>(type: "TEXT", nullable: false),
                    Metadata = table.Column<string>(type: "TEXT", nullable: false),
                    Place = table.Column<string>(type: "TEXT", nullable: false),
                    SignsJson = table.Column<string>(type: "TEXT", nullable: true),
                    AlsoJson = table.Column<string>(type: "TEXT", nullable: true),
                    SignsUntil = table.Column<long>(type: "INTEGER", nullable: true),
                    AssertionSeconds = table.Column<int>(type: "INTEGER", nullable: false),
                    Since = table.Column<long>(type: "INTEGER", nullable: true),
                    StrangersJson = table.Column<string>(type: "TEXT", nullable: false),
                    NotCounted = table.Column<string>(type: "TEXT", nullable: true),
                    ProblemJson = table.Column<string>(type: "TEXT", nullable: true),
                    CertificateId = table.Column<int>(type: "INTEGER", nullable: true),
                    Step = table.Column<int>(type: "INTEGER", nullable: false),
                    SwitchedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    OrderId = table.Column<long>(type: "INTEGER", nullable: true),
                    IsStale = table.Column<bool>(type: "INTEGER", nullable: false),
                    FailureJson = table.Column<string>(type: "TEXT", nullable: true),
                    Failures = table.Column<int>(type: "INTEGER", nullable: false),
                    RetryAt = table.Column<long>(type: "INTEGER", nullable: true),
                    IsFailed = table.Column<bool>(type: "INTEGER", nullable: false),
                    IsHeld = table.Column<bool>(type: "INTEGER", nullable: false),
                    GoOnAt = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Providers", x => x.Id);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Partners_ProviderId_Entity",
                table: "Partners",
                columns: new[] { "ProviderId", "Entity" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Providers_CertificateId",
                table: "Providers",
                column: "CertificateId");

            migrationBuilder.CreateIndex(
                name: "IX_Providers_HostId_Instance_Entity",
                table: "Providers",
                columns: new[] { "HostId", "Instance", "Entity" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Providers_IsFailed",
                table: "Providers",
                column: "IsFailed");

            migrationBuilder.CreateIndex(
                name: "IX_Providers_SignsUntil",
                table: "Providers",
                column: "SignsUntil");

            migrationBuilder.CreateIndex(
                name: "IX_Providers_Step",
                table: "Providers",
                column: "Step");
        }
    }
}
