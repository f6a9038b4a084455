using System.Collections.Concurrent;
using System.Security.Cryptography.X509Certificates;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.People;

/// <summary>A client certificate that is one of our editions and good now.</summary>
/// <param name="HostId">The host whose row names this certificate as its agent's; null of all others.</param>
public sealed record KnownClient(Edition Edition, int? HostId, string? Host);

/// <summary>
/// Recognises client certificates: TLS has proved possession of the key; here the certificate must be an edition on record, byte for byte, not revoked, in its life.
/// It stands for a host when the host's row names it, and not by any name in it.
/// </summary>
public sealed class ClientCertificates(IServiceScopeFactory scopes, TimeProvider clock)
{
    /// <summary>
    /// For TLS, which builds a chain before anybody is asked: it fetches nothing. Else whoever shows a certificate has the service call an address of his choice, and a few dozen
    /// agents that come back at one moment hold every thread while the service waits for itself.
    /// </summary>
    public static X509ChainPolicy NothingFetched { get; } =
        new()
        {
            DisableCertificateDownloads = true,
            RevocationMode = X509RevocationMode.NoCheck,
            TrustMode = X509ChainTrustMode.CustomRootTrust,
            VerificationFlags = X509VerificationFlags.AllFlags,
        };

    private static readonly TimeSpan CacheLife = TimeSpan.FromMinutes(10);
    private readonly ConcurrentDictionary<string, (KnownClient? Client, DateTimeOffset Until)> _cache = [];
    private long _version;

    /// <summary>After a revocation, a joining or a removal: what is kept may be over, on kept connections too.</summary>
    public void Forget()
    {
        Interlocked.Increment(ref _version);
        _cache.Clear();
    }

    public async Task<KnownClient?> FindAsync(HttpContext context, CancellationToken ct)
    {
        if (context.Connection.ClientCertificate is not { } shown)
            return null;
        var thumbprint = Thumbprint.Of(shown.RawDataMemory.Span).Hex;
        var now = clock.GetUtcNow();
        if (_cache.TryGetValue(thumbprint, out var known) && known.Until > now)
            return Alive(known.Client, now);
        var version = Interlocked.Read(ref _version);
        var client = await LookUpAsync(thumbprint, ct);
        // Something changed while it was looked up: good for this call at most, and not kept.
        if (Interlocked.Read(ref _version) != version)
            return Alive(await LookUpAsync(thumbprint, ct), now);
        if (_cache.Count > 100_000)
            _cache.Clear();
        _cache[thumbprint] = (client, now + CacheLife);
        return Alive(client, now);
    }

    private async Task<KnownClient?> LookUpAsync(string thumbprint, CancellationToken ct)
    {
        await using var scope = scopes.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        var edition = await db.Editions.AsNoTracking().FirstOrDefaultAsync(e => e.Thumbprint == thumbprint, ct);
        if (edition is null || edition.RevokedAt is not null)
            return null;
        if (edition.Profile != "agent")
            return new(edition, null, null);
        var host = await db
            .Hosts.AsNoTracking()
            .FirstOrDefaultAsync(
                h => h.State == HostState.Joined && (h.AgentThumbprint == thumbprint || h.AgentNextThumbprint == thumbprint),
                ct
            );
        if (host?.AgentNextThumbprint == thumbprint)
            await TakeUpAsync(db, host.Id, thumbprint, ct);
        return new(edition, host?.Id, host?.Name);
    }

    /// <summary>Its agent uses the next certificate: the one before speaks for the host no more.</summary>
    private async Task TakeUpAsync(BeaconDb db, int hostId, string thumbprint, CancellationToken ct)
    {
        await using (var write = await db.BeginWriteAsync(ct))
        {
            (await db.Hosts.SingleAsync(h => h.Id == hostId, ct)).AgentTookUp(thumbprint);
            await write.CommitAsync(ct);
        }
        _cache.Clear();
    }

    private static KnownClient? Alive(KnownClient? c, DateTimeOffset now) =>
        c is not null && c.Edition.NotBefore <= now && now <= c.Edition.NotAfter ? c : null;
}
