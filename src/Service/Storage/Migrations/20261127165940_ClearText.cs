using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    public partial class ClearText : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<bool>(
                name: "ClearText",
                table: "Services",
                type: "INTEGER",
                nullable: false,
                defaultValue: false);

            migrationBuilder.AddColumn<bool>(
                name: "RequiresTls",
                table: "Services",
                type: "INTEGER",
                nullable: false,
                defaultValue: false);

            migrationBuilder.CreateIndex(
                name: "IX_Services_ClearText",
                table: "Services",
                column: "ClearText");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropIndex(
                name: "IX_Services_ClearText",
                table: "Services");

            migrationBuilder.DropColumn(
                name: "ClearText",
                table: "Services");

            migrationBuilder.DropColumn(
                name: "RequiresTls",
                table: "Services");
        }
    }
}
