using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <inheritdoc />
    public partial class Ways : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<bool>(
                name: "Archived",
                table: "StoredEntries",
                type: "INTEGER",
                nullable: false,
                defaultValue: false);

            migrationBuilder.AddColumn<string>(
                name: "Label",
                table: "StoredEntries",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<bool>(
                name: "Releasable",
                table: "StoredEntries",
                type: "INTEGER",
                nullable: false,
                defaultValue: false);

            migrationBuilder.AddColumn<string>(
                name: "AnswerKey",
                table: "Requests",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "HeldChain",
                table: "Requests",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "HeldJson",
                table: "Requests",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Outside",
                table: "Requests",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "AuthoritiesJson",
                table: "Hosts",
                type: "TEXT",
                nullable: false,
                defaultValue: "[]");

            migrationBuilder.AddColumn<string>(
                name: "Device",
                table: "Hosts",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "DeviceAddress",
                table: "Hosts",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "SealKey",
                table: "Hosts",
                type: "TEXT",
                nullable: true);

            migrationBuilder.AddColumn<int>(
                name: "ViaHostId",
                table: "Hosts",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "PublishAt",
                table: "Editions",
                type: "INTEGER",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Outside",
                table: "Certificates",
                type: "TEXT",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "Outside",
                columns: table => new
                {
                    Id = table.Column<int>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    Title = table.Column<string>(type: "TEXT", nullable: false),
                    Subject = table.Column<string>(type: "TEXT", nullable: false),
                    Note = table.Column<string>(type: "TEXT", nullable: false),
                    FetchFromJson = table.Column<string>(type: "TEXT", nullable: false),
                    AnchorsPem = table.Column<string>(type: "TEXT", nullable: false),
                    IntermediatesPem = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Outside", x => x.Id);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Requests_AnswerKey",
                table: "Requests",
                column: "AnswerKey");

            migrationBuilder.CreateIndex(
                name: "IX_Editions_PublishAt",
                table: "Editions",
                column: "PublishAt");

            migrationBuilder.CreateIndex(
                name: "IX_Outside_Name",
                table: "Outside",
                column: "Name",
                unique: true);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Outside");

            migrationBuilder.DropIndex(
                name: "IX_Requests_AnswerKey",
                table: "Requests");

            migrationBuilder.DropIndex(
                name: "IX_Editions_PublishAt",
                table: "Editions");

            migrationBuilder.DropColumn(
                name: "Archived",
                table: "StoredEntries");

            migrationBuilder.DropColumn(
                name: "Label",
                table: "StoredEntries");

            migrationBuilder.DropColumn(
                name: "Releasable",
                table: "StoredEntries");

            migrationBuilder.DropColumn(
                name: "AnswerKey",
                table: "Requests");

            migrationBuilder.DropColumn(
                name: "HeldChain",
                table: "Requests");

            migrationBuilder.DropColumn(
                name: "HeldJson",
                table: "Requests");

            migrationBuilder.DropColumn(
                name: "Outside",
                table: "Requests");

            migrationBuilder.DropColumn(
                name: "AuthoritiesJson",
                table: "Hosts");

            migrationBuilder.DropColumn(
                name: "Device",
                table: "Hosts");

            migrationBuilder.DropColumn(
                name: "DeviceAddress",
                table: "Hosts");

            migrationBuilder.DropColumn(
                name: "SealKey",
                table: "Hosts");

            migrationBuilder.DropColumn(
                name: "ViaHostId",
                table: "Hosts");

            migrationBuilder.DropColumn(
                name: "PublishAt",
                table: "Editions");

            migrationBuilder.DropColumn(
                name: "Outside",
                table: "Certificates");
        }
    }
}
