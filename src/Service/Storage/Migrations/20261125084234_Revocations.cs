using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    public partial class Revocations : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropIndex(
                name: "IX_Crls_AuthorityId_Number",
                table: "Crls");

            migrationBuilder.AddColumn<long>(
                name: "RevocationChangedAt",
                table: "Editions",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.Sql("UPDATE Editions SET RevocationChangedAt = RevokedAt");

            migrationBuilder.AddColumn<long>(
                name: "BaseNumber",
                table: "Crls",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<bool>(
                name: "IsDelta",
                table: "Crls",
                type: "INTEGER",
                nullable: false,
                defaultValue: false);

            migrationBuilder.CreateIndex(
                name: "IX_Editions_NotAfter",
                table: "Editions",
                column: "NotAfter");

            migrationBuilder.CreateIndex(
                name: "IX_Editions_RevocationChangedAt",
                table: "Editions",
                column: "RevocationChangedAt");

            migrationBuilder.CreateIndex(
                name: "IX_Crls_AuthorityId_Number_IsDelta",
                table: "Crls",
                columns: new[] { "AuthorityId", "Number", "IsDelta" },
                unique: true);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropIndex(
                name: "IX_Editions_NotAfter",
                table: "Editions");

            migrationBuilder.DropIndex(
                name: "IX_Editions_RevocationChangedAt",
                table: "Editions");

            migrationBuilder.DropIndex(
                name: "IX_Crls_AuthorityId_Number_IsDelta",
                table: "Crls");

            migrationBuilder.DropColumn(
                name: "RevocationChangedAt",
                table: "Editions");

            migrationBuilder.DropColumn(
                name: "BaseNumber",
                table: "Crls");

            migrationBuilder.DropColumn(
                name: "IsDelta",
                table: "Crls");

            migrationBuilder.CreateIndex(
                name: "IX_Crls_AuthorityId_Number",
                table: "Crls",
                columns: new[] { "AuthorityId", "Number" },
                unique: true);
        }
    }
}
