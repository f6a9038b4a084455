using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(BeaconDb))]
    [Migration("20261125111236_AuthorityRenewal")]
    public class AuthorityRenewal : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropIndex(
                name: "IX_Crls_AuthorityId_Number_IsDelta",
                table: "Crls");

            migrationBuilder.AddColumn<string>(
                name: "AnchorsJson",
                table: "Hosts",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<int>(
                name: "KeyNumber",
                table: "Generations",
                type: "INTEGER",
                nullable: false,
                defaultValue: 1);

            migrationBuilder.AddColumn<long>(
                name: "TakenUpAt",
                table: "Generations",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "WithdrawnAt",
                table: "Generations",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<int>(
                name: "KeyNumber",
                table: "Crls",
                type: "INTEGER",
                nullable: false,
                defaultValue: 1);

            migrationBuilder.CreateTable(
                name: "CrossCertificate",
                columns: table => new
                {
                    Id = table.Column<int>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    AuthorityId = table.Column<int>(type: "INTEGER", nullable: false),
                    Der = table.Column<byte[]>(type: "BLOB", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_CrossCertificate", x => x.Id);
                    table.ForeignKey(
                        name: "FK_CrossCertificate_Authorities_AuthorityId",
                        column: x => x.AuthorityId,
                        principalTable: "Authorities",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Crls_AuthorityId_KeyNumber_Number_IsDelta",
                table: "Crls",
                columns: new[] { "AuthorityId", "KeyNumber", "Number", "IsDelta" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_CrossCertificate_AuthorityId",
                table: "CrossCertificate",
                column: "AuthorityId");

            // Until now, whatever had a certificate issued.
            migrationBuilder.Sql("UPDATE Generations SET TakenUpAt = CAST(strftime('%s', 'now') AS INTEGER) * 1000 WHERE length(Der) > 0");
        }
    }
}
