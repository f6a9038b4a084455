using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(BeaconDb))]
    [Migration("20261128133153_ServiceNames")]
    public class ServiceNames : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "ServiceNames",
                columns: table => new
                {
                    ServiceId = table.Column<int>(type: "INTEGER", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_ServiceNames", x => new { x.ServiceId, x.Name });
                });

            migrationBuilder.CreateIndex(
                name: "IX_ServiceNames_Name",
                table: "ServiceNames",
                column: "Name");

            migrationBuilder.Sql("INSERT INTO ServiceNames (ServiceId, Name) SELECT DISTINCT s.Id, lower(n.value) FROM Services s, json_each(s.NamesJson) n");
        }
    }
}
