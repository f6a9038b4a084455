using System.Collections.Concurrent;
using System.Net;
using System.Net.Security;
using Microsoft.AspNetCore.Server.Kestrel.Core;

namespace OrderlyBeacon.Service;

/// <summary>How many connections one address may hold: whoever opens them without end must not use up what all others need. Over the limit they are closed at once.</summary>
internal sealed class ConnectionLimit(int most)
{
    private readonly ConcurrentDictionary<IPAddress, int> _open = [];

    public void Use(ListenOptions listen) =>
        listen.Use(next =>
            async connection =>
            {
                var source = (connection.RemoteEndPoint as IPEndPoint)?.Address ?? IPAddress.None;
                var count = _open.AddOrUpdate(source, 1, (_, n) => n + 1);
                try
                {
                    if (count <= most)
                        await next(connection);
                    else
                        connection.Abort();
                }
                finally
                {
                    if (_open.AddOrUpdate(source, 0, (_, n) => n - 1) == 0)
                        _open.TryRemove(KeyValuePair.Create(source, 0));
                }
            }
        );
}

/// <summary>The TLS suites that are spoken: authenticated encryption and forward secrecy alone (RFC 9325 section 4.2).</summary>
internal static class TlsSuites
{
    public static CipherSuitesPolicy Policy { get; } =
        new([
            TlsCipherSuite.TLS_AES_128_GCM_SHA256,
            TlsCipherSuite.TLS_AES_256_GCM_SHA384,
            TlsCipherSuite.TLS_CHACHA20_POLY1305_SHA256,
            TlsCipherSuite.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256,
            TlsCipherSuite.TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384,
            TlsCipherSuite.TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256,
        ]);
}
