using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(BeaconDb))]
    [Migration("20261127082854_Stores")]
    public class Stores : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "StoredEntries",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    HostId = table.Column<int>(type: "INTEGER", nullable: false),
                    Certificate = table.Column<string>(type: "TEXT", nullable: false),
                    Serial = table.Column<string>(type: "TEXT", nullable: false),
                    Thumbprint = table.Column<string>(type: "TEXT", nullable: false),
                    Key = table.Column<string>(type: "TEXT", nullable: true),
                    Issuer = table.Column<string>(type: "TEXT", nullable: true),
                    NotAfter = table.Column<long>(type: "INTEGER", nullable: false),
                    InUse = table.Column<bool>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_StoredEntries", x => x.Id);
                });

            migrationBuilder.CreateIndex(
                name: "IX_StoredEntries_Certificate",
                table: "StoredEntries",
                column: "Certificate");

            migrationBuilder.CreateIndex(
                name: "IX_StoredEntries_HostId_Id",
                table: "StoredEntries",
                columns: new[] { "HostId", "Id" });

            migrationBuilder.CreateIndex(
                name: "IX_StoredEntries_Issuer",
                table: "StoredEntries",
                column: "Issuer");

            migrationBuilder.CreateIndex(
                name: "IX_StoredEntries_Key",
                table: "StoredEntries",
                column: "Key");

            migrationBuilder.CreateIndex(
                name: "IX_StoredEntries_NotAfter",
                table: "StoredEntries",
                column: "NotAfter");

            migrationBuilder.CreateIndex(
                name: "IX_StoredEntries_Serial",
                table: "StoredEntries",
                column: "Serial");

            migrationBuilder.CreateIndex(
                name: "IX_StoredEntries_Thumbprint",
                table: "StoredEntries",
                column: "Thumbprint");
        }
    }
}
