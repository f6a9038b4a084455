using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(BeaconDb))]
    [Migration("20261127181710_Sweeps")]
    public class Sweeps : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "SweepFindings",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    SweepId = table.Column<long>(type: "INTEGER", nullable: false),
                    Address = table.Column<string>(type: "TEXT", nullable: false),
                    Port = table.Column<int>(type: "INTEGER", nullable: false),
                    Protocol = table.Column<int>(type: "INTEGER", nullable: false),
                    Severity = table.Column<int>(type: "INTEGER", nullable: false),
                    Word = table.Column<string>(type: "TEXT", nullable: false),
                    NamesJson = table.Column<string>(type: "TEXT", nullable: false),
                    Issuer = table.Column<string>(type: "TEXT", nullable: true),
                    Serial = table.Column<string>(type: "TEXT", nullable: true),
                    NotAfter = table.Column<long>(type: "INTEGER", nullable: true),
                    Managed = table.Column<string>(type: "TEXT", nullable: true),
                    Host = table.Column<string>(type: "TEXT", nullable: true),
                    Service = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_SweepFindings", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Sweeps",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    HostId = table.Column<int>(type: "INTEGER", nullable: false),
                    By = table.Column<string>(type: "TEXT", nullable: false),
                    NetworksJson = table.Column<string>(type: "TEXT", nullable: false),
                    PortsJson = table.Column<string>(type: "TEXT", nullable: false),
                    State = table.Column<int>(type: "INTEGER", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false),
                    EndedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    Total = table.Column<long>(type: "INTEGER", nullable: false),
                    Tried = table.Column<long>(type: "INTEGER", nullable: false),
                    Answering = table.Column<int>(type: "INTEGER", nullable: false),
                    Serving = table.Column<int>(type: "INTEGER", nullable: false),
                    Unmanaged = table.Column<int>(type: "INTEGER", nullable: false),
                    ProblemJson = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Sweeps", x => x.Id);
                });

            migrationBuilder.CreateIndex(
                name: "IX_SweepFindings_SweepId_Id",
                table: "SweepFindings",
                columns: new[] { "SweepId", "Id" });

            migrationBuilder.CreateIndex(
                name: "IX_SweepFindings_SweepId_Issuer",
                table: "SweepFindings",
                columns: new[] { "SweepId", "Issuer" });

            migrationBuilder.CreateIndex(
                name: "IX_SweepFindings_SweepId_NotAfter",
                table: "SweepFindings",
                columns: new[] { "SweepId", "NotAfter" });

            migrationBuilder.CreateIndex(
                name: "IX_Sweeps_State",
                table: "Sweeps",
                column: "State");
        }
    }
}
