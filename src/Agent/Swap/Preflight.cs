using System.Net;
using System.Net.Sockets;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Paths;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>What must hold before anything is touched: many servers take a bad pair up and are without TLS then.</summary>
internal static class Preflight
{
    /// <summary>The key belongs to the certificate, which is valid now, with a complete chain.</summary>
    /// <param name="known">Anchors and intermediates; with none the chain is not judged.</param>
    /// <exception cref="BeaconProblem">It may not be put into any service; nothing was touched.</exception>
    public static void CheckEdition(StoreEntry entry, IReadOnlyList<X509> known, DateTimeOffset now)
    {
        var leaf = entry.Leaf();
        CertificateStore.CheckPair(File.ReadAllText(entry.KeyPath), leaf);
        if (now > leaf.NotAfter || now < leaf.NotBefore)
            throw new BeaconProblem(
                ProblemCode.SwapUndone,
                $"The edition {leaf.Serial} is not valid now ({leaf.NotBefore:yyyy-MM-dd HH:mm} to {leaf.NotAfter:yyyy-MM-dd HH:mm} UTC).",
                "Check this host's clock; else renew the certificate."
            );
        if (known.Count == 0)
            return;
        var sent = Core.Formats.Armor.Read(File.ReadAllBytes(entry.ChainPath)).Blocks.Skip(1).Select(b => X509.Read(b.Der)).ToList();
        var path = PathJudge.Judge(new(leaf, sent, known, [.. known.Where(k => k.IsSelfSigned)], now) { Purpose = null });
        if (!path.IsAccepted || path.Fetched.Count > 0)
            throw new BeaconProblem(
                ProblemCode.DataDamaged,
                $"The edition's chain is not complete: {path.Steps[^1]}",
                "Renew the certificate."
            );
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotAllowed"/>: the server would not take its key.</exception>
    public static void CheckRelease(ServiceRef service, string certificate, bool isReleasable)
    {
        if (service.Instance.Needs.IsReleased && !isReleasable)
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"{service.Label} takes keys that may leave their host, and no others; that of \"{certificate}\" stays.",
                "Request it anew with a profile whose keys may be released; keys that exist are never made so afterwards."
            );
    }

    /// <exception cref="BeaconProblem">Clients would refuse the service under its own name.</exception>
    public static void CheckName(ChangeSet plan, X509 leaf)
    {
        if (plan.NamesAreAssumed || plan.Names.Count == 0)
            return;
        var own = plan.Names[0];
        if (HostNameMatch.Of(own.Replace("*.", "any."), leaf.Names, null) != NameMatch.Fits)
            throw new BeaconProblem(
                ProblemCode.SwapUndone,
                $"The certificate is for {string.Join(", ", leaf.Names)}, not for {own}; clients would refuse it.",
                $"Request one that has the name {own}."
            );
    }

    /// <summary>Says which of the service's own names the certificate lacks.</summary>
    public static ChangeSet WithUncovered(ChangeSet plan, X509 leaf)
    {
        var lacks = plan.Names.Where(n => HostNameMatch.Of(n.Replace("*.", "any."), leaf.Names, null) != NameMatch.Fits).ToList();
        if (lacks.Count == 0)
            return plan;
        var warning = plan.NamesAreAssumed
            ? $"The certificate is for {string.Join(", ", leaf.Names.Take(3))}: clients that call this server by another name, for example {lacks[0]}, will refuse it."
            : $"The certificate lacks {string.Join(", ", lacks)}: clients that use such a name will refuse it.";
        return plan with { Warnings = [.. plan.Warnings, warning] };
    }

    public static void CheckPorts(ChangeSet plan)
    {
        foreach (var (address, port) in plan.NewPorts)
        {
            // What a name stands for is the server's to find out, in its own test.
            if (!IPAddress.TryParse(address, out var ip))
                continue;
            try
            {
                using var socket = new Socket(ip.AddressFamily, SocketType.Stream, ProtocolType.Tcp);
                socket.Bind(new IPEndPoint(ip, port));
            }
            catch (SocketException e) when (e.SocketErrorCode == SocketError.AddressAlreadyInUse)
            {
                throw new BeaconProblem(
                    ProblemCode.PortTaken,
                    $"Port {port} on {address} belongs to another program already; nothing was changed.",
                    $"Stop that program (ss -ltnp 'sport = :{port}' names it), or bind with another port (--port)."
                );
            }
            catch (SocketException e) when (e.SocketErrorCode == SocketError.AccessDenied) { }
        }
    }
}
