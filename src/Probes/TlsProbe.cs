using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Authentication;
using System.Security.Cryptography.X509Certificates;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Probes;

/// <summary>Opens a TLS connection as a client would and records what it meets. Judging is Core's.</summary>
public static class TlsProbe
{
    public static readonly TimeSpan Patience = TimeSpan.FromSeconds(5);

    private static readonly string InTime = $"within {Patience.TotalSeconds:0} seconds";

    /// <summary>Whether a look ended because its time was up: nothing was refused, and a later one may get through.</summary>
    public static bool RanOutOfTime(LookReport look) =>
        look.Outcome != LookOutcome.Served && look.Message.EndsWith(InTime, StringComparison.Ordinal);

    public static async Task<LookReport> LookAsync(Probe probe, TimeProvider clock, CancellationToken ct)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        limit.CancelAfter(Patience);
        var chain = new List<string>();
        Socket? socket = null;
        try
        {
            try
            {
                socket = await ConnectAsync(probe, limit.Token);
            }
            catch (SocketException e)
            {
                return Report(LookOutcome.NoAnswer, Word(e));
            }
            catch (OperationCanceledException) when (!ct.IsCancellationRequested)
            {
                return Report(LookOutcome.NoAnswer, $"no answer {InTime}");
            }
            try
            {
                return await GreetAsync(socket, limit.Token);
            }
            catch (Exception e) when (e is AuthenticationException or IOException)
            {
                return Report(LookOutcome.HandshakeFailed, Short(e));
            }
            catch (OperationCanceledException) when (!ct.IsCancellationRequested)
            {
                return Report(LookOutcome.HandshakeFailed, $"no handshake {InTime}");
            }
        }
        finally
        {
            socket?.Dispose();
        }

        async Task<LookReport> GreetAsync(Socket open, CancellationToken within)
        {
            await using var stream = new NetworkStream(open, ownsSocket: false);
            await using var tls = new SslStream(stream);
            if (WaysToTls.Of(probe.Protocol) is { } way && await way.GoAsync(stream, probe.Name, within) is { } refusal)
                return Report(refusal.IsOffered ? LookOutcome.HandshakeFailed : LookOutcome.PlainOnly, refusal.Words);
            await tls.AuthenticateAsClientAsync(TakeEverything(probe.Name, chain), within);
            return Report(LookOutcome.Served, "", tls.SslProtocol == SslProtocols.Tls13 ? "TLS 1.3" : "TLS 1.2");
        }

        LookReport Report(LookOutcome outcome, string message, string? protocol = null) =>
            new(probe.Address, probe.Port, probe.Name, clock.GetUtcNow(), outcome, message, protocol, chain);
    }

    /// <summary>Everything is taken: the judgement is made on what was sent, and says more than the platform does.</summary>
    /// <param name="chain">Gets what was sent.</param>
    private static SslClientAuthenticationOptions TakeEverything(string serverName, List<string> chain) =>
        new()
        {
            TargetHost = serverName,
            EnabledSslProtocols = SslProtocols.Tls12 | SslProtocols.Tls13,
            CertificateChainPolicy = new X509ChainPolicy
            {
                DisableCertificateDownloads = true,
                RevocationMode = X509RevocationMode.NoCheck,
                TrustMode = X509ChainTrustMode.CustomRootTrust,
                VerificationFlags = X509VerificationFlags.AllFlags,
            },
            RemoteCertificateValidationCallback = (_, certificate, built, _) =>
            {
                if (certificate is not null)
                    Keep(certificate.GetRawCertData(), built?.ChainPolicy.ExtraStore, chain);
                return true;
            },
        };

    private static void Keep(byte[] leaf, X509Certificate2Collection? others, List<string> chain)
    {
        chain.Add(Convert.ToBase64String(leaf));
        foreach (var extra in others ?? [])
        {
            var text = Convert.ToBase64String(extra.RawData);
            if (chain.Count < LookReport.MostCertificates && !chain.Contains(text))
                chain.Add(text);
        }
    }

    /// <summary>Whether a service that has no TLS answers at all.</summary>
    public static async Task<LookReport> KnockAsync(string address, int port, string serverName, TimeProvider clock, CancellationToken ct)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        limit.CancelAfter(Patience);
        try
        {
            var ip = await AddressOfAsync(address, limit.Token);
            using var socket = new Socket(ip.AddressFamily, SocketType.Stream, ProtocolType.Tcp);
            await socket.ConnectAsync(ip, port, limit.Token);
            return new(address, port, serverName, clock.GetUtcNow(), LookOutcome.PlainOnly, "", null, []);
        }
        catch (SocketException e)
        {
            return new(address, port, serverName, clock.GetUtcNow(), LookOutcome.NoAnswer, Word(e), null, []);
        }
        catch (OperationCanceledException) when (!ct.IsCancellationRequested)
        {
            return new(address, port, serverName, clock.GetUtcNow(), LookOutcome.NoAnswer, "no answer in time", null, []);
        }
    }

    /// <exception cref="SocketException">Nobody listens there, or the name is not known.</exception>
    internal static async Task<Socket> ConnectAsync(Probe probe, CancellationToken ct)
    {
        var ip = await AddressOfAsync(probe.Address, ct);
        var socket = new Socket(ip.AddressFamily, SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        try
        {
            await socket.ConnectAsync(ip, probe.Port, ct);
            return socket;
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }

    /// <summary>Servers listen at names too, as <c>localhost:443</c>.</summary>
    public static async Task<IPAddress> AddressOfAsync(string address, CancellationToken ct) =>
        IPAddress.TryParse(address, out var literal)
            ? literal
            : (await Dns.GetHostAddressesAsync(address, ct)).FirstOrDefault() ?? throw new SocketException((int)SocketError.HostNotFound);

    /// <summary>What a look says where the system finds no address for the name.</summary>
    public const string NameNotKnown = "the name is not known";

    private static string Word(SocketException e) =>
        e.SocketErrorCode switch
        {
            SocketError.ConnectionRefused => "connection refused",
            SocketError.HostNotFound or SocketError.NoData => NameNotKnown,
            _ => e.Message,
        };

    private static string Short(Exception e)
    {
        var m = (e.InnerException ?? e).Message;
        return m.Length > 200 ? m[..200] : m;
    }
}
