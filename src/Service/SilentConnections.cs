using Microsoft.AspNetCore.Connections;
using Microsoft.AspNetCore.Server.Kestrel.Core;

namespace OrderlyBeacon.Service;

/// <summary>
/// Connections that say nothing are ended before anything is set up for them. The TLS layer would end them too, but by a failure of each, and thousands of failures at
/// one moment make all others wait.
/// </summary>
internal static class SilentConnections
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);

    public static void Use(ListenOptions listen, TimeProvider clock) =>
        listen.Use(next =>
            async connection =>
            {
                if (await SaysSomethingAsync(connection, clock))
                    await next(connection);
            }
        );

    private static async Task<bool> SaysSomethingAsync(ConnectionContext connection, TimeProvider clock)
    {
        var input = connection.Transport.Input;
        await using var end = clock.CreateTimer(_ => input.CancelPendingRead(), null, Patience, Timeout.InfiniteTimeSpan);
        try
        {
            var first = await input.ReadAsync();
            // Nothing is taken: what follows reads it from its beginning.
            input.AdvanceTo(first.Buffer.Start);
            return !first.Buffer.IsEmpty;
        }
        catch (ConnectionResetException)
        {
            return false;
        }
    }
}
