using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace OrderlyBeacon.Service.Storage.Migrations
{
    /// <summary>Requests from before approvals have no lists of them: an empty text is none, and could not be read.</summary>
    [DbContext(typeof(BeaconDb))]
    [Migration("20261128210000_EarlierRequests")]
    public class EarlierRequests : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.Sql("UPDATE Requests SET AmendmentsJson = '[]' WHERE AmendmentsJson = ''");
            migrationBuilder.Sql("UPDATE Requests SET ApprovalsJson = '[]' WHERE ApprovalsJson = ''");
        }
    }
}
