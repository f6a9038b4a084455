using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Renewal;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Profiles;

namespace OrderlyBeacon.Service.Revocations;

/// <summary>Who signs OCSP answers for an issuer: a key of its own under a short-lived certificate from that issuer, so that the authority's key is not used for every question.</summary>
public sealed record Responder(OcspIssuer Issuer, int GenerationId, X509 Certificate, byte[] KeyIdentifier, ISigner Signer);

/// <summary>The delegated responder's key and certificate: made at start, renewed by the regular round with a new key, kept over restarts.</summary>
public sealed class ResponderCertificates(BeaconOptions options, AuthorityRegistry registry, IssueEdition issue, ProfileCatalogue profiles, TimeProvider clock, ILogger<ResponderCertificates> log)
{
    private volatile Responder? _current;
    private readonly SemaphoreSlim _one = new(1, 1);
    private DateTimeOffset _planned;

    /// <summary>Null until the first one is there.</summary>
    public Responder? Current => _current;

    public async Task RenewIfDueAsync(CancellationToken ct)
    {
        // The regular round and an answer that is installed may come at the same moment.
        await _one.WaitAsync(ct);
        try { await RenewAsync(ct); }
        finally { _one.Release(); }
    }

    private async Task RenewAsync(CancellationToken ct)
    {
        if (!registry.IsReady) return;
        var point = registry.Issuing;
        var file = Path.Combine(options.Data, "keys", $"responder-{point.GenerationId}.p12");
        if (_current is null && File.Exists(file)) TryLoad(file, point);
        if (_current is { } now && now.GenerationId == point.GenerationId && clock.GetUtcNow() < _planned) return;
        var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var name = DistinguishedName.Of([new(Core.Oids.Organization, options.Organization), new(Core.Oids.CommonName, $"{options.Organization} Revocation Responder")]);
        var recorded = await issue.RunAsync(new(profiles.Get("responder"), name, [], PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()), null, 0,
            $"responder-{point.GenerationId}@system", "[]", null, EditionState.Current, "system", "the service itself"), ct);
        using (var leaf = X509CertificateLoader.LoadCertificate(recorded.Der))
        using (var keyed = leaf.CopyWithPrivateKey(key))
            PrivateFiles.Write(file, keyed.Export(X509ContentType.Pkcs12), overwrite: true);
        Take(X509.Read(recorded.Der), key, point);
        log.LogInformation("OCSP answers are signed under a certificate good until {Until:u}", _current!.Certificate.NotAfter);
    }

    private void TryLoad(string file, IssuingPoint point)
    {
        try
        {
            using var c = X509CertificateLoader.LoadPkcs12FromFile(file, null, X509KeyStorageFlags.Exportable);
            var x = X509.Read(c.RawDataMemory);
            if (x.SignedBy(point.Certificate.PublicKey) && x.NotAfter > clock.GetUtcNow() && c.GetECDsaPrivateKey() is { } key) Take(x, key, point);
        }
        catch (CryptographicException e) { log.LogWarning("The kept responder's certificate cannot be read ({Why}); a new one is made", e.Message); }
    }

    private void Take(X509 certificate, ECDsa key, IssuingPoint point)
    {
        _current = new(new OcspIssuer(point.Certificate), point.GenerationId, certificate, certificate.PublicKey.KeyIdentifier(), new KeySigner(key));
        _planned = new RenewalPolicy().PlannedFor(certificate.NotBefore, certificate.NotAfter, certificate.Serial.Hex);
    }
}
