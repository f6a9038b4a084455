using System.Security.Cryptography;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;

namespace OrderlyBeacon.Agent.Tests;

/// <summary>What an agent has on its host, and an authority to issue for it.</summary>
internal sealed class SwapBench(string state)
{
    private readonly KeySigner _rootSigner = new(KeySigner.NewKey(KeySpec.P256));
    private X509? _root;
    private long _order;

    public CertificateStore Store { get; } = new(Path.Combine(state, "store"));
    public SwapJournal Journal { get; } = new(state);
    public BoundBook Bounds { get; } = new(state);
    public List<string> Steps { get; } = [];
    public SwapRun Swap => new(Store, Journal, Bounds, TimeProvider.System, Steps.Add);

    /// <summary>The root that clients trust.</summary>
    public X509 Root => _root ??= NewRoot();

    private X509 NewRoot()
    {
        var name = DistinguishedName.ForCommonName("Test Root");
        return X509.Read(
            CertificateWriter.Issue(
                new CertificateContent
                {
                    Serial = Serial(),
                    Issuer = name,
                    Subject = name,
                    PublicKey = _rootSigner.PublicKey,
                    NotBefore = DateTimeOffset.UtcNow.AddHours(-1),
                    NotAfter = DateTimeOffset.UtcNow.AddYears(1),
                    IsAuthority = true,
                    KeyUsage = KeyUsages.KeyCertSign,
                },
                _rootSigner
            )
        );
    }

    private static SerialNumber Serial() => SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16));

    public long NextOrder() => ++_order;

    /// <summary>Through the store as an order would: key and CSR made there, issued, completed.</summary>
    public StoreEntry Issue(string certificate, params string[] names) => Issue(certificate, KeySpec.P256, names);

    public StoreEntry Issue(string certificate, KeySpec key, params string[] names)
    {
        var order = NextOrder();
        var pem = Store.Prepare(order, DistinguishedName.ForCommonName(names[0]), [.. names.Select(AlternativeName.Parse)], key);
        var csr = CertificationRequest.Read(System.Text.Encoding.ASCII.GetBytes(pem)).ThrowIfUnusable();
        var der = CertificateWriter.Issue(
            new CertificateContent
            {
                Serial = Serial(),
                Issuer = Root.Subject,
                Subject = csr.Subject,
                PublicKey = csr.PublicKey,
                NotBefore = DateTimeOffset.UtcNow.AddMinutes(-1),
                NotAfter = DateTimeOffset.UtcNow.AddHours(1),
                Names = csr.Names,
                KeyUsage = KeyUsages.DigitalSignature,
                ExtendedKeyUsage = [Oids.ServerAuth],
                AuthorityKeyIdentifier = Root.SubjectKeyIdentifier,
            },
            _rootSigner
        );
        return Store.Complete(order, certificate, Armor.Write(Armor.Certificate, der), releasable: true);
    }

    public Task<IReadOnlyList<Contracts.LookReport>> BindAsync(StoreEntry e, int? port, params ServiceRef[] services) =>
        Swap.BindAsync(1000 + NextOrder(), e, services, port, [Root], CancellationToken.None);

    private static bool OffersFtpTls(string address, int port)
    {
        try
        {
            using var client = new System.Net.Sockets.TcpClient(address, port) { ReceiveTimeout = 20_000 };
            using var reader = new StreamReader(client.GetStream());
            while (reader.ReadLine() is { } greeting && !greeting.StartsWith("220 ", StringComparison.Ordinal)) { }
            client.GetStream().Write("AUTH TLS\r\n"u8);
            return reader.ReadLine()?.StartsWith("234", StringComparison.Ordinal) ?? false;
        }
        catch (Exception e) when (e is IOException or System.Net.Sockets.SocketException)
        {
            return false;
        }
    }

    /// <summary>The serial that openssl sees, or null.</summary>
    /// <param name="startTls">As openssl names the protocol; null when TLS begins at once.</param>
    public static string? Served(string address, int port, string name, string? startTls = null)
    {
        string[] way = startTls is null ? [] : ["-starttls", startTls];
        // Refused by an FTP server, it would wait for ever.
        if (startTls == "ftp" && !OffersFtpTls(address, port))
            return null;
        string[] command = ["s_client", "-connect", $"{address}:{port}", "-servername", name, .. way];
        var (_, output, _) = Programs.Run("timeout", ["12", "openssl", .. command], []);
        var at = output.IndexOf("-----BEGIN CERTIFICATE", StringComparison.Ordinal);
        if (at < 0)
            return null;
        var end = output.IndexOf("-----END CERTIFICATE-----", StringComparison.Ordinal) + 25;
        return X509.Read(Armor.Read(System.Text.Encoding.ASCII.GetBytes(output[at..end])).Blocks[0].Der).Serial.Hex;
    }
}
