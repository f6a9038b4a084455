using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(BeaconDb))]
    [Migration("20261127203411_TrustStores")]
    public class TrustStores : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<string>(
                name: "ChainEnd",
                table: "Services",
                type: "TEXT",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "AnchorSetMembers",
                columns: table => new
                {
                    SetId = table.Column<long>(type: "INTEGER", nullable: false),
                    AnchorId = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_AnchorSetMembers", x => new { x.SetId, x.AnchorId });
                });

            migrationBuilder.CreateTable(
                name: "AnchorSets",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    Digest = table.Column<string>(type: "TEXT", nullable: false),
                    Stores = table.Column<int>(type: "INTEGER", nullable: false),
                    ForServers = table.Column<int>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_AnchorSets", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "KnownAnchors",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    Thumbprint = table.Column<string>(type: "TEXT", nullable: false),
                    Subject = table.Column<string>(type: "TEXT", nullable: false),
                    NotAfter = table.Column<long>(type: "INTEGER", nullable: false),
                    Der = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Ours = table.Column<bool>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_KnownAnchors", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "StoreMarks",
                columns: table => new
                {
                    StoreId = table.Column<long>(type: "INTEGER", nullable: false),
                    Thumbprint = table.Column<string>(type: "TEXT", nullable: false),
                    Mark = table.Column<int>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_StoreMarks", x => new { x.StoreId, x.Thumbprint });
                });

            migrationBuilder.CreateTable(
                name: "TrustStores",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    HostId = table.Column<int>(type: "INTEGER", nullable: false),
                    Kind = table.Column<int>(type: "INTEGER", nullable: false),
                    Path = table.Column<string>(type: "TEXT", nullable: false),
                    Reader = table.Column<string>(type: "TEXT", nullable: false),
                    LetsIn = table.Column<bool>(type: "INTEGER", nullable: false),
                    Digest = table.Column<string>(type: "TEXT", nullable: true),
                    SetId = table.Column<long>(type: "INTEGER", nullable: true),
                    Anchors = table.Column<int>(type: "INTEGER", nullable: false),
                    ProblemJson = table.Column<string>(type: "TEXT", nullable: true),
                    FailureJson = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_TrustStores", x => x.Id);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Services_ChainEnd",
                table: "Services",
                column: "ChainEnd");

            migrationBuilder.CreateIndex(
                name: "IX_AnchorSetMembers_AnchorId",
                table: "AnchorSetMembers",
                column: "AnchorId");

            migrationBuilder.CreateIndex(
                name: "IX_AnchorSets_Digest",
                table: "AnchorSets",
                column: "Digest",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_KnownAnchors_NotAfter",
                table: "KnownAnchors",
                column: "NotAfter");

            migrationBuilder.CreateIndex(
                name: "IX_KnownAnchors_Subject",
                table: "KnownAnchors",
                column: "Subject");

            migrationBuilder.CreateIndex(
                name: "IX_KnownAnchors_Thumbprint",
                table: "KnownAnchors",
                column: "Thumbprint",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_StoreMarks_Thumbprint_Mark",
                table: "StoreMarks",
                columns: new[] { "Thumbprint", "Mark" });

            migrationBuilder.CreateIndex(
                name: "IX_TrustStores_Digest",
                table: "TrustStores",
                column: "Digest");

            migrationBuilder.CreateIndex(
                name: "IX_TrustStores_HostId",
                table: "TrustStores",
                column: "HostId");

            migrationBuilder.CreateIndex(
                name: "IX_TrustStores_SetId",
                table: "TrustStores",
                column: "SetId");
        }
    }
}
