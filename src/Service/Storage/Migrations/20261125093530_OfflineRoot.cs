using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    public partial class OfflineRoot : Migration
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

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropColumn(
                name: "Request",
                table: "Generations");
        }
    }
}
