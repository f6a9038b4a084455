using System.Globalization;
using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Authentication;
using System.Security.Cryptography;
using System.Text;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Hosts;

/// <summary>
/// Looks for itself whether an address is a host's: orders the agent to wait there, connects to the address, and meets it: TLS proves the agent's key, a fresh challenge
/// that it is this order. What is met so is evidence for a day; what a host only says is none.
/// </summary>
public sealed class MeetAgent(BeaconDb db, OrderDesk desk, Changes changes, TimeProvider clock)
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(15);

    /// <returns>What was seen, in a sentence.</returns>
    public async Task<string> RunAsync(string hostName, string text, Caller caller, CancellationToken ct)
    {
        var host = await FindHost.ByNameAsync(db, hostName, ct);
        MayAct.ThrowUnless(Operation.MeetHost, caller, MayAct.Of(host));
        desk.ThrowIfAway(host);
        if (!AlternativeName.TryParse("ip:" + text.Replace("ip:", "", StringComparison.OrdinalIgnoreCase), out var name, out _))
            throw new BeaconProblem(ProblemCode.NameMalformed, $"\"{text}\" is not an address.", "Give an IPv4 or IPv6 address.");
        var address = IPAddress.Parse(name!.Value);
        if (AddressKinds.Objection(address) is { } never)
            throw new BeaconProblem(
                ProblemCode.RequestRefused,
                $"{name.Value} {never}: meeting somebody there shows nothing.",
                "Ask for a host name instead."
            );
        var challenge = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));
        var order = await desk.PlaceAsync(
            host,
            new Order(0, OrderKind.Meet, null, null, null, null, null, null, null, name.Value, null, null),
            new(caller.Actor, JournalAction.HostMeetingOrdered, $"{host.Name} at {name.Value}"),
            ct
        );
        await MeetAsync(new(address, await PortAsync(order.Id, host, ct)), host, order.Id, challenge, ct);
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var now = clock.GetUtcNow();
            (await db.Hosts.SingleAsync(h => h.Id == host.Id, ct)).Met(name.ToString(), now);
            await db.Note(now, caller.Actor, JournalAction.HostMet, host.Name, $"its agent answered at {name.Value}");
            await write.CommitAsync(ct);
        }
        changes.Tell("host", host.Name);
        return $"The service connected to {name.Value} and met the agent of {host.Name} there; for a day that is evidence for the address.";
    }

    /// <summary>The port that the agent waits at, from its step.</summary>
    private async Task<int> PortAsync(long order, Host host, CancellationToken ct)
    {
        for (
            var until = clock.GetUtcNow() + Patience;
            clock.GetUtcNow() < until;
            await Task.Delay(TimeSpan.FromMilliseconds(100), clock, ct)
        )
        {
            var row = await db.Orders.AsNoTracking().SingleAsync(o => o.Id == order, ct);
            if (!row.IsOpen)
                throw NotMet(host, row.Result?.Problem?.Message ?? "the agent could not wait there");
            var step = row.Steps.FirstOrDefault(s => s.StartsWith(MeetingWords.Waiting, StringComparison.Ordinal));
            if (
                step is not null
                && int.TryParse(step[MeetingWords.Waiting.Length..], NumberStyles.None, CultureInfo.InvariantCulture, out var port)
                && port is > 0 and < 65536
            )
                return port;
        }
        throw NotMet(host, "the agent did not say in time where it waits");
    }

    private static async Task MeetAsync(IPEndPoint at, Host host, long order, string challenge, CancellationToken ct)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        limit.CancelAfter(Patience);
        try
        {
            using var socket = new Socket(at.AddressFamily, SocketType.Stream, ProtocolType.Tcp);
            await socket.ConnectAsync(at, limit.Token);
            await using var tls = new SslStream(new NetworkStream(socket, ownsSocket: false));
            await tls.AuthenticateAsClientAsync(
                new SslClientAuthenticationOptions
                {
                    TargetHost = host.Name,
                    // Neither name nor chain counts: it is the very certificate that the host's row names, or nobody.
                    RemoteCertificateValidationCallback = (_, certificate, _, _) =>
                        certificate is not null
                        && Thumbprint.Of(certificate.GetRawCertData()).Hex is var shown
                        && (shown == host.AgentThumbprint || shown == host.AgentNextThumbprint),
                },
                limit.Token
            );
            var ask = $"{order} {challenge}\n";
            await tls.WriteAsync(Encoding.ASCII.GetBytes(ask), limit.Token);
            var answer = new byte[ask.Length];
            await tls.ReadExactlyAsync(answer, limit.Token);
            if (!answer.AsSpan().SequenceEqual(Encoding.ASCII.GetBytes(ask)))
                throw NotMet(host, "what answered there does not know of this order");
        }
        catch (Exception e) when (e is SocketException or IOException or AuthenticationException)
        {
            throw NotMet(host, e is AuthenticationException ? "somebody else answers there" : e.Message);
        }
        catch (OperationCanceledException) when (!ct.IsCancellationRequested)
        {
            throw NotMet(host, "nothing answered in time");
        }
    }

    private static BeaconProblem NotMet(Host host, string why) =>
        new(
            ProblemCode.Unreachable,
            $"The agent of {host.Name} was not met at that address: {why}.",
            "Check that the address is the host's own and can be reached from the service; else somebody else approves it."
        );
}
