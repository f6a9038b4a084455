using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(BeaconDb))]
    [Migration("20261128042054_KeyRollovers")]
    public class KeyRollovers : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<int>(
                name: "MailUses",
                table: "Services",
                type: "INTEGER",
                nullable: false,
                defaultValue: 0);

            migrationBuilder.CreateTable(
                name: "Rollovers",
                columns: table => new
                {
                    Id = table.Column<int>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    CertificateId = table.Column<int>(type: "INTEGER", nullable: false),
                    RequestId = table.Column<long>(type: "INTEGER", nullable: false),
                    NextKey = table.Column<string>(type: "TEXT", nullable: false),
                    Step = table.Column<string>(type: "TEXT", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false),
                    Until = table.Column<long>(type: "INTEGER", nullable: true),
                    OwnersJson = table.Column<string>(type: "TEXT", nullable: false),
                    LongestLife = table.Column<int>(type: "INTEGER", nullable: false),
                    ToDoJson = table.Column<string>(type: "TEXT", nullable: false),
                    ForeignJson = table.Column<string>(type: "TEXT", nullable: false),
                    Problem = table.Column<string>(type: "TEXT", nullable: true),
                    IsDropped = table.Column<bool>(type: "INTEGER", nullable: false),
                    IsSkipped = table.Column<bool>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Rollovers", x => x.Id);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Services_MailUses",
                table: "Services",
                column: "MailUses");

            migrationBuilder.CreateIndex(
                name: "IX_Rollovers_CertificateId_Step",
                table: "Rollovers",
                columns: new[] { "CertificateId", "Step" });

            migrationBuilder.CreateIndex(
                name: "IX_Rollovers_Step",
                table: "Rollovers",
                column: "Step");
        }
    }
}
