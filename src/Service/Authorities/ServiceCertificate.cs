using System.Net.Security;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Renewal;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Revocations;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>The service's own certificates: each is renewed by the regular round, and as soon as the authority can issue.</summary>
public interface IRenewsItself
{
    Task RenewIfDueAsync(CancellationToken ct);
}

/// <summary>The service's own TLS certificate: issued by its own authority, renewed by itself, taken up for new connections without a restart.</summary>
public sealed class ServiceCertificate(
    BeaconOptions options,
    AuthorityRegistry registry,
    IssueEdition issue,
    ProfileCatalogue profiles,
    TimeProvider clock,
    ILogger<ServiceCertificate> log
) : IHearsOfRevocations, IRenewsItself
{
    private volatile SslStreamCertificateContext? _context;
    private readonly SemaphoreSlim _one = new(1, 1);
    private DateTimeOffset _planned;
    private bool _provisional;
    private string? _serial;

    public SslStreamCertificateContext Context =>
        _context ?? throw new InvalidOperationException("The service's certificate is not there yet.");

    private string File => Path.Combine(options.Data, "keys", "service.pem");

    public async Task RenewIfDueAsync(CancellationToken ct)
    {
        // The regular round and an answer that is installed may come at the same moment.
        await _one.WaitAsync(ct);
        try
        {
            await RenewAsync(ct);
        }
        finally
        {
            _one.Release();
        }
    }

    private async Task RenewAsync(CancellationToken ct)
    {
        if (!registry.IsReady)
        {
            if (_context is null)
                Provisional();
            return;
        }
        if (_provisional)
            _context = null;
        if (_context is null)
            TryLoad();
        if (_context is not null && clock.GetUtcNow() < _planned)
            return;
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var names = options.NameList.Select(AlternativeName.Parse).ToList();
        var recorded = await issue.RunAsync(
            OwnEnrolments.ForService(profiles.Get("service"), names, clock.GetUtcNow()),
            PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()),
            new("beacond" + CertificateNaming.System, EditionState.Current, Actor.System, "the service itself"),
            ct
        );
        OwnKeyFile.Write(File, recorded.Der, key);
        var own = X509Certificate2.CreateFromPemFile(File);
        Take(own);
        log.LogInformation("The service has a certificate of its own until {Until:u}", own.NotAfter.ToUniversalTime());
    }

    /// <summary>While the authority has no certificate: one that the service signs itself, kept over restarts. Its copy in root.pem is what clients trust until then.</summary>
    private void Provisional()
    {
        var file = Path.Combine(options.Data, "keys", "provisional.pem");
        if (OwnKeyFile.TryRead(file) is null)
        {
            using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
            var signer = new KeySigner(key);
            var name = DistinguishedName.ForCommonName(options.NameList[0]);
            var now = clock.GetUtcNow();
            var der = Core.Issuing.CertificateWriter.Issue(
                new()
                {
                    Serial = SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16)),
                    Issuer = name,
                    Subject = name,
                    PublicKey = signer.PublicKey,
                    NotBefore = now.AddMinutes(-5),
                    NotAfter = now.AddYears(1),
                    Names = [.. options.NameList.Select(AlternativeName.Parse)],
                    KeyUsage = Core.Issuing.KeyUsages.DigitalSignature,
                    ExtendedKeyUsage = [Oids.ServerAuth, Oids.BeaconService],
                },
                signer
            );
            OwnKeyFile.Write(file, der, key);
            System.IO.File.WriteAllText(
                Path.Combine(options.Data, "root.pem"),
                Core.Formats.Armor.Write(Core.Formats.Armor.Certificate, der)
            );
        }
        _context = SslStreamCertificateContext.Create(X509Certificate2.CreateFromPemFile(file), null, offline: true);
        _provisional = true;
    }

    private void TryLoad()
    {
        if (OwnKeyFile.TryRead(File) is not { } c)
            return;
        var x = Core.Issuing.X509.Read(c.RawDataMemory);
        // Other names in the settings, another authority, or a certificate from before there was the mark, need a new one.
        var isOurs =
            registry.Keys.Any(k => x.SignedBy(k.Certificate.PublicKey)) && x.ExtendedKeyUsage?.Contains(Oids.BeaconService) == true;
        if (isOurs && options.NameList.All(n => x.Names.Contains(AlternativeName.Parse(n))))
            Take(c);
    }

    /// <summary>An edition was revoked or put on hold: if it is the service's own, the next round makes another with a new key. After a restart too: its file is gone.</summary>
    public void Revoked(string serial)
    {
        if (serial != _serial)
            return;
        System.IO.File.Delete(File);
        _planned = default;
    }

    /// <summary>Another chain leads to the same certificate now, as when a cross certificate was added.</summary>
    public void ChainChanged()
    {
        if (!_provisional)
            TryLoad();
    }

    private static X509Certificate2Collection Load(IEnumerable<Core.Issuing.X509> all) =>
        [.. all.Select(x => X509CertificateLoader.LoadCertificate(x.Der.Span))];

    private void Take(X509Certificate2 c)
    {
        var chain = Load(registry.Above(Core.Issuing.X509.Read(c.RawDataMemory)));
        // Agents' issuers are named in the handshake, so that browsers without such a certificate do not ask their users.
        var trust = SslCertificateTrust.CreateForX509Collection(Load(registry.Keys.Select(k => k.Certificate)), sendTrustInHandshake: true);
        _provisional = false;
        _serial = Core.Issuing.X509.Read(c.RawDataMemory).Serial.Hex;
        _context = SslStreamCertificateContext.Create(c, chain, offline: true, trust);
        _planned = new RenewalPolicy().PlannedFor(c.NotBefore.ToUniversalTime(), c.NotAfter.ToUniversalTime(), c.SerialNumber);
    }
}
