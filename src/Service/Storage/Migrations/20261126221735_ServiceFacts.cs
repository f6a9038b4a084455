using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(BeaconDb))]
    [Migration("20261126221735_ServiceFacts")]
    public class ServiceFacts : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<string>(
                name: "Fault",
                table: "Services",
                type: "TEXT",
                nullable: true);

            migrationBuilder.CreateIndex(
                name: "IX_Services_Fault",
                table: "Services",
                column: "Fault");

            migrationBuilder.CreateIndex(
                name: "IX_Services_ServedSerial",
                table: "Services",
                column: "ServedSerial");

            migrationBuilder.CreateIndex(
                name: "IX_Services_ServedUntil",
                table: "Services",
                column: "ServedUntil");

            migrationBuilder.CreateIndex(
                name: "IX_Editions_State_NotAfter_Profile_CertificateId",
                table: "Editions",
                columns: new[] { "State", "NotAfter", "Profile", "CertificateId" });

            migrationBuilder.CreateIndex(
                name: "IX_Certificates_Failures",
                table: "Certificates",
                column: "Failures");

            migrationBuilder.CreateIndex(
                name: "IX_Certificates_HasEdition",
                table: "Certificates",
                column: "HasEdition");

            migrationBuilder.CreateIndex(
                name: "IX_Bindings_State",
                table: "Bindings",
                column: "State");
        }
    }
}
