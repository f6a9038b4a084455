using System.Net.Sockets;
using OrderlyBeacon.Agent.Connectors.Slapd;

namespace OrderlyBeacon.Agent.Tests.Contract;

public sealed class SlapdSocketTests
{
    [Fact]
    public void A_socket_that_is_bound_and_does_not_listen_yet_is_waited_for_and_a_missing_one_is_not()
    {
        var folder = Directory.CreateTempSubdirectory("beacon-test-").FullName;
        try
        {
            var path = Path.Combine(folder, "ldapi");
            Assert.True(LdapSocket.IsOpen(path));
            using var server = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
            server.Bind(new UnixDomainSocketEndPoint(path));
            Assert.False(LdapSocket.IsOpen(path));
            server.Listen();
            Assert.True(LdapSocket.IsOpen(path));
            Assert.True(LdapSocket.IsOpen("/" + new string('a', 200)));
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }
}
