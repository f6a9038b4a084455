using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(BeaconDb))]
    [Migration("20261125084234_Revocations")]
    public class Revocations : Migration
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
    }
}
