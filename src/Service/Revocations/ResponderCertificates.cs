using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Renewal;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Profiles;

namespace OrderlyBeacon.Service.Revocations;

/// <summary>Who signs OCSP answers for one of the issuing authority's keys: a key of its own under a short-lived certificate from that key, so that the authority's key is not used for every question.</summary>
public sealed record Responder(
    OcspIssuer Issuer,
    int KeyNumber,
    X509 Certificate,
    byte[] KeyIdentifier,
    ISigner Signer,
    DateTimeOffset Planned
);

/// <summary>The delegated responders' keys and certificates, one for each of the authority's keys: made at start, renewed by the regular round with a new key, kept over restarts.</summary>
public sealed class ResponderCertificates(
    BeaconOptions options,
    AuthorityRegistry registry,
    IssueEdition issue,
    ProfileCatalogue profiles,
    TimeProvider clock,
    ILogger<ResponderCertificates> log
) : IHearsOfRevocations, IRenewsItself
{
    private volatile Responder[] _all = [];
    private readonly SemaphoreSlim _one = new(1, 1);

    public bool Any => _all.Length > 0;

    public Responder? Of(int keyNumber) => Array.Find(_all, r => r.KeyNumber == keyNumber);

    /// <summary>Who speaks for the issuer that a question names (RFC 6960 section 4.2.2.2); null when it is none of ours.</summary>
    public Responder? For(OcspCertId question)
    {
        var all = _all;
        // The newest is asked about most.
        for (var i = all.Length - 1; i >= 0; i--)
            if (question.IsOf(all[i].Issuer))
                return all[i];
        return null;
    }

    public async Task RenewIfDueAsync(CancellationToken ct)
    {
        // The regular round and an answer that is installed may come at the same moment.
        await _one.WaitAsync(ct);
        try
        {
            if (!registry.IsReady)
                return;
            Core.BeaconProblem? unusable = null;
            foreach (var point in registry.Keys)
            {
                try
                {
                    await RenewAsync(point, ct);
                }
                catch (Core.BeaconProblem p) when (p.Code == Core.ProblemCode.AuthorityNotReady)
                {
                    unusable ??= p;
                }
            }
            _all = [.. _all.Where(r => registry.Keys.Any(k => k.KeyNumber == r.KeyNumber)).OrderBy(r => r.KeyNumber)];
            if (unusable is not null)
                throw unusable;
        }
        finally
        {
            _one.Release();
        }
    }

    private async Task RenewAsync(IssuingPoint point, CancellationToken ct)
    {
        var now = clock.GetUtcNow();
        // Under an ended certificate nothing ends later, and nobody asks.
        if (point.Certificate.NotAfter < now)
            return;
        var file = FileOf(point.KeyNumber);
        if (Of(point.KeyNumber) is null)
            TryLoad(file, point);
        if (Of(point.KeyNumber) is { } kept && now < kept.Planned)
            return;
        var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var name = DistinguishedName.Of([
            new(Core.Oids.Organization, options.Organization),
            new(Core.Oids.CommonName, $"{options.Organization} Revocation Responder"),
        ]);
        var recorded = await issue.RunAsync(
            OwnEnrolments.ForResponder(profiles.Get("responder"), name, clock.GetUtcNow()),
            PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()),
            new($"responder-{point.KeyNumber}{CertificateNaming.System}", EditionState.Current, Actor.System, "the service itself")
            {
                Under = point,
            },
            ct
        );
        OwnKeyFile.Write(file, recorded.Der, key);
        Take(X509.Read(recorded.Der), key, point);
        log.LogInformation(
            "OCSP answers for {File} are signed under a certificate good until {Until:u}",
            point.File,
            Of(point.KeyNumber)!.Certificate.NotAfter
        );
    }

    /// <summary>An edition was revoked or put on hold: if it is a responder's, the next round makes another with a new key.</summary>
    public void Revoked(string serial)
    {
        if (Array.Find(_all, r => r.Certificate.Serial.Hex == serial) is not { } mine)
            return;
        File.Delete(FileOf(mine.KeyNumber));
        _all = [.. _all.Select(r => r.KeyNumber == mine.KeyNumber ? r with { Planned = default } : r)];
    }

    private string FileOf(int keyNumber) => Path.Combine(options.Data, "keys", $"responder-{keyNumber}.pem");

    private void TryLoad(string file, IssuingPoint point)
    {
        using var c = OwnKeyFile.TryRead(file);
        if (c is null)
            return;
        var x = X509.Read(c.RawDataMemory);
        if (x.SignedBy(point.Certificate.PublicKey) && x.NotAfter > clock.GetUtcNow() && c.GetECDsaPrivateKey() is { } key)
            Take(x, key, point);
    }

    private void Take(X509 certificate, ECDsa key, IssuingPoint point) =>
        _all = [
            .. _all.Where(r => r.KeyNumber != point.KeyNumber)
                .Append(
                    new(
                        new OcspIssuer(point.Certificate),
                        point.KeyNumber,
                        certificate,
                        certificate.PublicKey.KeyIdentifier(),
                        new KeySigner(key),
                        new RenewalPolicy().PlannedFor(certificate.NotBefore, certificate.NotAfter, certificate.Serial.Hex)
                    )
                )
                .OrderBy(r => r.KeyNumber),
        ];
}
