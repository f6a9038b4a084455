using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(BeaconDb))]
    [Migration("20261127011514_OpenConcerns")]
    public class OpenConcerns : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<long>(
                name: "JudgeAt",
                table: "Services",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<bool>(
                name: "NamesAreAssumed",
                table: "Services",
                type: "INTEGER",
                nullable: false,
                defaultValue: false);

            migrationBuilder.AddColumn<long>(
                name: "JudgeAt",
                table: "Certificates",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "CertificateNames",
                columns: table => new
                {
                    CertificateId = table.Column<int>(type: "INTEGER", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_CertificateNames", x => new { x.CertificateId, x.Name });
                });

            migrationBuilder.CreateTable(
                name: "Concerns",
                columns: table => new
                {
                    Id = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    Of = table.Column<string>(type: "TEXT", nullable: false),
                    SubjectId = table.Column<long>(type: "INTEGER", nullable: false),
                    Kind = table.Column<string>(type: "TEXT", nullable: false),
                    About = table.Column<string>(type: "TEXT", nullable: false),
                    Severity = table.Column<int>(type: "INTEGER", nullable: false),
                    Reason = table.Column<string>(type: "TEXT", nullable: false),
                    Hurts = table.Column<string>(type: "TEXT", nullable: false),
                    Cure = table.Column<string>(type: "TEXT", nullable: false),
                    Command = table.Column<string>(type: "TEXT", nullable: true),
                    Link = table.Column<string>(type: "TEXT", nullable: true),
                    Since = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Concerns", x => x.Id);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Services_JudgeAt",
                table: "Services",
                column: "JudgeAt");

            migrationBuilder.CreateIndex(
                name: "IX_Certificates_JudgeAt",
                table: "Certificates",
                column: "JudgeAt");

            migrationBuilder.CreateIndex(
                name: "IX_CertificateNames_Name",
                table: "CertificateNames",
                column: "Name");

            migrationBuilder.CreateIndex(
                name: "IX_Concerns_Of_Kind_Severity_About_SubjectId",
                table: "Concerns",
                columns: new[] { "Of", "Kind", "Severity", "About", "SubjectId" });

            migrationBuilder.CreateIndex(
                name: "IX_Concerns_Of_SubjectId_Kind_About",
                table: "Concerns",
                columns: new[] { "Of", "SubjectId", "Kind", "About" },
                unique: true);

            migrationBuilder.Sql("INSERT INTO CertificateNames (CertificateId, Name) SELECT DISTINCT c.Id, n.value FROM Certificates c, json_each(c.NamesJson) n");
            // The first rounds judge what is there.
            migrationBuilder.Sql("UPDATE Certificates SET JudgeAt = 0 WHERE Profile <> 'agent'");
            migrationBuilder.Sql("UPDATE Services SET JudgeAt = 0");
        }
    }
}
