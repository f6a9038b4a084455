using System.Net;
using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Trust;

/// <summary>Has an agent look at an address as a client would. A name of a known service is looked for where that service listens.</summary>
public sealed class LookFromHost(BeaconDb db, OrderDesk desk)
{
    public async Task<LookInfo> RunAsync(LookWish wish, CancellationToken ct) => (await RawAsync(wish, ct)).Judged;

    /// <returns>The look with its judgement, and as the agent brought it; null when it brought none.</returns>
    public async Task<(LookInfo Judged, LookReport? Brought)> RawAsync(LookWish wish, CancellationToken ct)
    {
        var (address, port) = Split(wish.Address);
        var name = wish.ServerName ?? address;
        var protocol = wish.Protocol;
        if (!IPAddress.TryParse(address, out _))
        {
            var quoted = "\"" + DnsName.Parse(address).Ascii + "\"";
            var service = await db.Services.AsNoTracking().Where(s => s.NamesJson.Contains(quoted)).FirstOrDefaultAsync(ct);
            var endpoints = service is null ? [] : Shapes.Endpoints(service.EndpointsJson);
            var endpoint =
                endpoints.FirstOrDefault(e => port is null ? e.Tls : e.Port == port) ?? (port is null ? endpoints.FirstOrDefault() : null);
            if (endpoint is not null)
            {
                (address, port) = (endpoint.Address, endpoint.Port);
                protocol ??= endpoint.Protocol;
                wish = wish with { From = wish.From ?? (await db.Hosts.AsNoTracking().SingleAsync(h => h.Id == service!.HostId, ct)).Name };
            }
        }
        var host = wish.From is not null
            ? await FindHost.ByNameAsync(db, wish.From, ct)
            : (
                await db
                    .Hosts.AsNoTracking()
                    .Where(h => h.State == HostState.Joined)
                    .OrderByDescending(h => h.LastSeen)
                    .FirstOrDefaultAsync(ct)
            )
                ?? throw new BeaconProblem(
                    ProblemCode.HostAway,
                    "There is no host to look from.",
                    "Invite a host first: beacon host invite NAME."
                );
        var order = await desk.AskAsync(
            host,
            new Order(0, OrderKind.Look, null, null, null, null, null, null, port ?? 443, address, name, null)
            {
                Protocol = protocol ?? WellKnownPorts.ProtocolAt(port ?? 443),
            },
            TimeSpan.FromSeconds(20),
            ct
        );
        var ended = await db.Orders.AsNoTracking().SingleAsync(o => o.Id == order.Id, ct);
        var judged =
            Shapes.Looks(ended.LooksJson).FirstOrDefault()
            ?? throw new BeaconProblem(ProblemCode.Unreachable, "The agent brought no answer.", "Look into its log.");
        return (judged, ended.Result?.Looks?.FirstOrDefault());
    }

    private static (string Address, int? Port) Split(string text)
    {
        var t = text.Trim();
        foreach (var scheme in new[] { "https://", "http://" })
            if (t.StartsWith(scheme, StringComparison.OrdinalIgnoreCase))
                t = t[scheme.Length..];
        t = t.Split('/')[0];
        var colon = t.LastIndexOf(':');
        if (t.StartsWith('[') && t.Contains(']'))
            return (t[1..t.IndexOf(']')], colon > t.IndexOf(']') ? Port(t[(colon + 1)..]) : null);
        return colon > 0 && t.IndexOf(':') == colon ? (t[..colon], Port(t[(colon + 1)..])) : (t, null);

        static int Port(string p) =>
            int.TryParse(p, out var n) && n is > 0 and < 65536
                ? n
                : throw new BeaconProblem(ProblemCode.InputInvalid, $"\"{p}\" is not a port.", "Use a number from 1 to 65535.");
    }
}
