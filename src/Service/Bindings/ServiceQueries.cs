using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Bindings;

/// <summary>Reads services with their bindings and last looks.</summary>
public sealed class ServiceQueries(BeaconDb db, Hosts.Presence presence, BeaconOptions options, TimeProvider clock)
{
    public async Task<List<ServiceInfo>> ListAsync(string? search, int? hostId, CancellationToken ct)
    {
        var q = db.Services.AsNoTracking();
        if (hostId is { } id)
            q = q.Where(s => s.HostId == id);
        if (!string.IsNullOrWhiteSpace(search))
            q = q.Where(s =>
                s.NamesJson.Contains(search) || s.Name.Contains(search) || db.Hosts.Any(h => h.Id == s.HostId && h.Name.Contains(search))
            );
        var rows = await (
            from s in q
            join h in db.Hosts on s.HostId equals h.Id
            where h.State == HostState.Joined
            from b in db.Bindings.Where(b => b.ServiceId == s.Id).DefaultIfEmpty()
            from c in db.Certificates.Where(c => b != null && c.Id == b.CertificateId).DefaultIfEmpty()
            orderby h.Name, s.Name
            select new
            {
                s,
                Host = h.Name,
                b,
                Certificate = c == null ? null : c.Name,
            }
        ).ToListAsync(ct);
        return [.. rows.Select(x => Info(x.s, x.Host, x.b is null ? null : BindingOf(x.b, x.Certificate!, x.Host, x.s.Name)))];
    }

    public static BindingInfo BindingOf(Binding b, string certificate, string host, string service) =>
        new(certificate, host, service, b.State, b.WantedSerial, b.SeenSerial, b.Message, b.SeenAt);

    private ServiceInfo Info(HostService s, string host, BindingInfo? binding)
    {
        var now = clock.GetUtcNow();
        var looks = Shapes.Looks(s.LooksJson);
        var look = looks.FirstOrDefault();
        // What the host has said again since is as good as seen again.
        if (look is not null && presence.Confirmed(s.HostId) is { } again && again > look.At)
            look = look with { At = again };
        if (look is { Served: not null, Accepted: true } && s.ServedUntil is { } ends)
        {
            // Time goes on between two looks.
            if (ends < now)
                look = look with
                {
                    Accepted = false,
                    Severity = Severity.Now,
                    Problems =
                    [
                        new(
                            "expired",
                            Severity.Now,
                            $"The certificate expired on {ends:d MMM yyyy HH:mm}.",
                            "Every client refuses the connection.",
                            "Request a new one and bind it."
                        ),
                    ],
                };
            else if (binding is null && ends < now.AddDays(options.SoonDays))
                look = look with
                {
                    Severity = Severity.Soon,
                    Problems =
                    [
                        new(
                            "ends-soon",
                            Severity.Soon,
                            $"The certificate ends on {ends:d MMM yyyy}, {Distance(ends - now)}, and nothing renews it.",
                            "After that every client refuses the connection.",
                            "Request its successor and bind it; it renews itself from then on."
                        ),
                    ],
                };
        }
        var severity = look?.Severity ?? Severity.Fine;
        if (binding is { State: BindingState.Broken or BindingState.Behind })
            severity = Severity.Failed;
        var problem = Shapes.Problem(s.ProblemJson);
        if (problem is not null && severity < Severity.Soon)
            severity = Severity.Soon;
        var state =
            look is null ? "not looked at yet"
            : binding is { State: BindingState.Behind } ? "behind"
            : look.Problems.FirstOrDefault() is { } p ? Word(p.Fault)
            : binding is null ? "accepted, not managed"
            : "accepted";
        return new(
            host,
            s.Name,
            s.Connector,
            Shapes.Strings(s.NamesJson),
            JsonSerializer.Deserialize(s.EndpointsJson, BeaconJson.Default.ListEndpointInfo)!,
            Shapes.Strings(s.PlacesJson),
            s.CertificateFile,
            severity,
            state,
            binding,
            look,
            problem
        );
    }

    private static string Word(string fault) =>
        fault switch
        {
            "plain-only" => "not encrypted",
            "no-answer" => "no answer",
            "self-signed" => "self-signed",
            "common-name-only" => "name only in CN",
            "ends-soon" => "expires soon",
            "expired" => "expired",
            "unknown-issuer" => "unknown issuer",
            _ => fault.Replace('-', ' '),
        };

    public static string Distance(TimeSpan left) =>
        left.TotalDays >= 1.5 ? $"in {Math.Ceiling(left.TotalDays):0} days"
        : left.TotalHours >= 1.5 ? $"in {left.TotalHours:0} hours"
        : $"in {Math.Max(1, left.TotalMinutes):0} minutes";
}
