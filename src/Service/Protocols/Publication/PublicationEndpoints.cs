using System.Globalization;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Protocols.Publication;

/// <summary>What verifiers fetch over plain HTTP (RFC 5280 section 4.2.1.13, RFC 4387), and what watches over the service.</summary>
internal static class PublicationEndpoints
{
    public static void MapPublication(this WebApplication app)
    {
        app.MapGet(
                "/crl/{file}",
                (string file, CrlShelf shelf, HttpContext context) =>
                {
                    if (!file.EndsWith(".crl", StringComparison.Ordinal) || shelf.Get(file[..^4])?.Row is not { } crl)
                        return Results.NotFound();
                    context.Response.Headers.CacheControl = "public, max-age=60";
                    context.Response.Headers.LastModified = crl.ThisUpdate.UtcDateTime.ToString("R", CultureInfo.InvariantCulture);
                    return Results.Bytes(crl.Der, "application/pkix-crl");
                }
            )
            .ExcludeFromDescription();

        app.MapGet(
                "/issuer/{file}",
                (string file, AuthorityRegistry registry) =>
                    file.EndsWith(".cer", StringComparison.Ordinal) && registry.File(file[..^4]) is { } certificate
                        ? Results.Bytes(certificate.Der.ToArray(), "application/pkix-cert")
                        : Results.NotFound()
            )
            .ExcludeFromDescription();

        app.MapGet("/healthz", () => Results.Text("alive\n")).ExcludeFromDescription();
        app.MapGet(
                "/readyz",
                async (BeaconDb db, AuthorityRegistry registry, CancellationToken ct) =>
                    registry.IsReady && await db.Database.CanConnectAsync(ct)
                        ? Results.Text("ready\n")
                        : Results.Text(
                            !registry.IsReady && registry.Waiting is { } w
                                ? $"not ready: {w.Name} waits for the answer to its request {w.Request}\n"
                                : "not ready\n",
                            statusCode: 503
                        )
            )
            .ExcludeFromDescription();
        app.MapGet("/metrics", MetricsAsync).ExcludeFromDescription();
    }

    /// <summary>OpenMetrics text.</summary>
    private static async Task<IResult> MetricsAsync(
        BeaconDb db,
        AuthorityRegistry registry,
        CrlShelf shelf,
        ResponderCertificates responders,
        Health.HealthBook health,
        TimeProvider clock,
        HttpContext context,
        BeaconOptions options,
        CancellationToken ct
    )
    {
        // On the plain port it is given only where the settings ask for it; here it wants a sign-in.
        if (
            context.Request.IsHttps
            && RightsOf.Role(Operation.GetMetrics, People.Caller.Of(context.User).Who, options.Holdings.Groups) is { } denial
        )
            throw denial.Problem;
        var now = clock.GetUtcNow();
        var text = new System.Text.StringBuilder();
        await CountsAsync(db, text, ct);
        SecondsLeft(registry, shelf, responders, text, now);
        health.Write(text, now);
        Lanes.Write(text);
        text.Append("# EOF\n");
        return Results.Text(text.ToString(), "application/openmetrics-text; version=1.0.0; charset=utf-8");
    }

    private static async Task CountsAsync(BeaconDb db, System.Text.StringBuilder text, CancellationToken ct)
    {
        Gauge("beacon_editions_issued", "Editions on record", await db.Editions.LongCountAsync(ct));
        Gauge("beacon_editions_revoked", "Revoked editions", await db.Editions.LongCountAsync(e => e.RevokedAt != null, ct));
        Gauge(
            "beacon_certificates_failing",
            "Certificates whose last renewal failed",
            await db.Certificates.LongCountAsync(c => c.Failures > 0, ct)
        );
        Gauge(
            "beacon_orders_open",
            "Orders that agents have not finished",
            await db.Orders.LongCountAsync(o => o.State == Contracts.OrderState.Queued || o.State == Contracts.OrderState.Taken, ct)
        );
        Gauge("beacon_hosts_joined", "Hosts with an agent", await db.Hosts.LongCountAsync(h => h.State == Contracts.HostState.Joined, ct));

        void Gauge(string name, string help, long value) =>
            text.Append(CultureInfo.InvariantCulture, $"# TYPE {name} gauge\n# HELP {name} {help}\n{name} {value}\n");
    }

    private static void SecondsLeft(
        AuthorityRegistry registry,
        CrlShelf shelf,
        ResponderCertificates responders,
        System.Text.StringBuilder text,
        DateTimeOffset now
    )
    {
        text.Append("# TYPE beacon_crl_seconds_left gauge\n# HELP beacon_crl_seconds_left Seconds until the newest list expires\n");
        foreach (var a in registry.Authorities)
        foreach (var key in a.Certified.Select(g => g.KeyNumber).Distinct())
        foreach (
            var (list, file) in new[]
            {
                ("full", Authority.FileOf(a.Slug, key)),
                ("delta", CrlShelf.DeltaName(Authority.FileOf(a.Slug, key))),
            }
        )
            if (shelf.Get(file)?.Row.NextUpdate is { } next)
                text.Append(
                    CultureInfo.InvariantCulture,
                    $"beacon_crl_seconds_left{{authority=\"{a.Slug}\",key=\"{key}\",list=\"{list}\"}} {(next - now).TotalSeconds:0}\n"
                );
        text.Append(
            "# TYPE beacon_responder_seconds_left gauge\n# HELP beacon_responder_seconds_left Seconds until the OCSP responder's certificate for a key ends\n"
        );
        foreach (var k in registry.IsReady ? registry.Keys : [])
            if (responders.Of(k.KeyNumber) is { } responder)
                text.Append(
                    CultureInfo.InvariantCulture,
                    $"beacon_responder_seconds_left{{key=\"{k.KeyNumber}\"}} {(responder.Certificate.NotAfter - now).TotalSeconds:0}\n"
                );
        text.Append(
            "# TYPE beacon_authority_seconds_left gauge\n# HELP beacon_authority_seconds_left Seconds until the authority's newest certificate ends\n"
        );
        foreach (var a in registry.Authorities)
            text.Append(
                CultureInfo.InvariantCulture,
                $"beacon_authority_seconds_left{{authority=\"{a.Slug}\"}} {(a.Certified.Max(g => g.Read().NotAfter) - now).TotalSeconds:0}\n"
            );
    }
}
