using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(BeaconDb))]
    [Migration("20261125122218_Restores")]
    public class Restores : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Restores",
                columns: table => new
                {
                    Id = table.Column<int>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    At = table.Column<long>(type: "INTEGER", nullable: false),
                    BackupAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CrlFloor = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Restores", x => x.Id);
                });
        }
    }
}
