using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(BeaconDb))]
    [Migration("20261125093530_OfflineRoot")]
    public class OfflineRoot : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<byte[]>(
                name: "Request",
                table: "Generations",
                type: "BLOB",
                nullable: false,
                defaultValue: new byte[0]);
        }
    }
}
