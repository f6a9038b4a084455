using System.Net.Security;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Renewal;
using OrderlyBeacon.Service.Profiles;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>The service's own TLS certificate: issued by its own authority, renewed by itself, taken up for new connections without a restart.</summary>
public sealed class ServiceCertificate(
    BeaconOptions options,
    AuthorityRegistry registry,
    IssueEdition issue,
    ProfileCatalogue profiles,
    TimeProvider clock,
    ILogger<ServiceCertificate> log
)
{
    private volatile SslStreamCertificateContext? _context;
    private readonly SemaphoreSlim _one = new(1, 1);
    private DateTimeOffset _planned;
    private bool _provisional;

    public SslStreamCertificateContext Context =>
        _context ?? throw new InvalidOperationException("The service's certificate is not there yet.");

    private string File => Path.Combine(options.Data, "keys", "service.p12");

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
        if (_context is null && System.IO.File.Exists(File))
            TryLoad();
        if (_context is not null && clock.GetUtcNow() < _planned)
            return;
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var names = options.NameList.Select(AlternativeName.Parse).ToList();
        var recorded = await issue.RunAsync(
            new(
                profiles.Get("server"),
                DistinguishedName.ForCommonName(names[0].Value),
                names,
                PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()),
                null,
                0,
                "beacond@system",
                Shapes.Json(names.Select(n => n.ToString())),
                null,
                EditionState.Current,
                "system",
                "the service itself"
            ),
            ct
        );
        using var leaf = X509CertificateLoader.LoadCertificate(recorded.Der);
        using var keyed = leaf.CopyWithPrivateKey(key);
        var p12 = keyed.Export(X509ContentType.Pkcs12);
        PrivateFiles.Write(File, p12, overwrite: true);
        Take(X509CertificateLoader.LoadPkcs12(p12, null));
        log.LogInformation("The service has a certificate of its own until {Until:u}", leaf.NotAfter.ToUniversalTime());
    }

    /// <summary>While the authority has no certificate: one that the service signs itself, kept over restarts. Its copy in root.pem is what clients trust until then.</summary>
    private void Provisional()
    {
        var file = Path.Combine(options.Data, "keys", "provisional.p12");
        if (!System.IO.File.Exists(file))
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
                    ExtendedKeyUsage = [Oids.ServerAuth],
                },
                signer
            );
            using var leaf = X509CertificateLoader.LoadCertificate(der);
            using var keyed = leaf.CopyWithPrivateKey(key);
            PrivateFiles.Write(file, keyed.Export(X509ContentType.Pkcs12), overwrite: false);
            System.IO.File.WriteAllText(
                Path.Combine(options.Data, "root.pem"),
                Core.Formats.Armor.Write(Core.Formats.Armor.Certificate, der)
            );
        }
        _context = SslStreamCertificateContext.Create(X509CertificateLoader.LoadPkcs12FromFile(file, null), null, offline: true);
        _provisional = true;
    }

    private void TryLoad()
    {
        try
        {
            var c = X509CertificateLoader.LoadPkcs12FromFile(File, null);
            var x = Core.Issuing.X509.Read(c.RawDataMemory);
            // Other names in the settings, or another authority, need a new one.
            if (
                registry.Keys.Any(k => x.SignedBy(k.Certificate.PublicKey))
                && options.NameList.All(n => x.Names.Contains(AlternativeName.Parse(n)))
            )
                Take(c);
        }
        catch (CryptographicException e)
        {
            log.LogWarning("The kept certificate cannot be read ({Why}); a new one is made", e.Message);
        }
    }

    /// <summary>Another chain leads to the same certificate now, as when a cross certificate was added.</summary>
    public void ChainChanged()
    {
        if (!_provisional && System.IO.File.Exists(File))
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
        _context = SslStreamCertificateContext.Create(c, chain, offline: true, trust);
        _planned = new RenewalPolicy().PlannedFor(c.NotBefore.ToUniversalTime(), c.NotAfter.ToUniversalTime(), c.SerialNumber);
    }
}
