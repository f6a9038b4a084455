using System.Diagnostics;
using System.Net;
using System.Security.Cryptography;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Nginx;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;

namespace OrderlyBeacon.Agent.Tests;

/// <summary>A private nginx on a loopback address of its own, and an authority to issue for it.</summary>
internal sealed class RealNginx : IDisposable
{
    private static int _next = Environment.ProcessId % 200;
    private readonly Scratch _scratch = new();
    private readonly KeySigner _rootSigner = new(KeySigner.NewKey(KeySpec.P256));
    private readonly X509 _root;
    private long _order;

    public RealNginx(string sites)
    {
        Address = $"127.77.{Interlocked.Increment(ref _next) % 250}.1";
        var name = DistinguishedName.ForCommonName("Test Root");
        _root = X509.Read(
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
        Directory.CreateDirectory(_scratch["sites"]);
        Directory.CreateDirectory(_scratch["www"]);
        Directory.CreateDirectory(_scratch["tmp"]);
        _scratch.File("www/index.html", "hello");
        _scratch.File("www/big", new byte[600_000]);
        _scratch.File(
            "nginx.conf",
            $$"""
            {{(Environment.UserName == "root" ? "user root;" : "")}}
            worker_processes 1;
            pid {{Folder}}/nginx.pid;
            error_log {{Folder}}/error.log notice;
            events { worker_connections 64; }
            http {
                access_log off;
                client_body_temp_path tmp/a; proxy_temp_path tmp/b; fastcgi_temp_path tmp/c; uwsgi_temp_path tmp/d; scgi_temp_path tmp/e;
                include sites/*.conf;
            }
            """
        );
        WriteSites(sites);
        Connector = new(new("nginx", Binary, _scratch["nginx.conf"], Folder));
        Store = new(Path.Combine(Folder, "store"));
        Journal = new(Folder);
        Bounds = new(Folder);
    }

    public const string Binary = "/usr/sbin/nginx";
    public string Address { get; }
    public string Folder => _scratch.Path;
    public string SitePath => _scratch["sites/all.conf"];
    public NginxConnector Connector { get; }
    public CertificateStore Store { get; }
    public SwapJournal Journal { get; }
    public BoundBook Bounds { get; }
    public List<string> Steps { get; } = [];
    public SwapRun Swap => new(Store, Journal, Bounds, TimeProvider.System, Steps.Add);
    public IReadOnlyList<X509> Known => [_root];

    public void WriteSites(string sites) => _scratch.File("sites/all.conf", sites.Replace("ADDR", Address).Replace("WWW", _scratch["www"]));

    public RealNginx Start()
    {
        var (code, _, error) = Programs.Run(Binary, ["-e", _scratch["error.log"], "-p", Folder, "-c", _scratch["nginx.conf"]]);
        Assert.True(code == 0, error);
        for (var i = 0; i < 100 && !Connector.IsRunning(); i++)
            Thread.Sleep(50);
        return this;
    }

    public int Pid => int.Parse(File.ReadAllText(_scratch["nginx.pid"]));

    private static SerialNumber Serial() => SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16));

    /// <summary>Through the store as an order would: key and CSR made there, issued, completed.</summary>
    public StoreEntry Issue(string certificate, params string[] names)
    {
        var order = ++_order;
        var csr = CertificationRequest
            .Read(
                System.Text.Encoding.ASCII.GetBytes(
                    Store.Prepare(order, DistinguishedName.ForCommonName(names[0]), [.. names.Select(AlternativeName.Parse)], KeySpec.P256)
                )
            )
            .ThrowIfUnusable();
        var der = CertificateWriter.Issue(
            new CertificateContent
            {
                Serial = Serial(),
                Issuer = _root.Subject,
                Subject = csr.Subject,
                PublicKey = csr.PublicKey,
                NotBefore = DateTimeOffset.UtcNow.AddMinutes(-1),
                NotAfter = DateTimeOffset.UtcNow.AddHours(1),
                Names = csr.Names,
                KeyUsage = KeyUsages.DigitalSignature,
                ExtendedKeyUsage = [Oids.ServerAuth],
                AuthorityKeyIdentifier = _root.SubjectKeyIdentifier,
            },
            _rootSigner
        );
        return Store.Complete(order, certificate, Armor.Write(Armor.Certificate, der));
    }

    public Task<IReadOnlyList<Contracts.LookReport>> BindAsync(StoreEntry e, params string[] services) =>
        Swap.BindAsync(1000 + ++_order, Connector, e, services, 8443, Known, CancellationToken.None);

    /// <summary>The serial that openssl sees, or null.</summary>
    public string? Served(string name, int port = 8443)
    {
        var (_, output, _) = Programs.Run("openssl", ["s_client", "-connect", $"{Address}:{port}", "-servername", name], []);
        var at = output.IndexOf("-----BEGIN CERTIFICATE", StringComparison.Ordinal);
        if (at < 0)
            return null;
        return X509.Read(
            Armor
                .Read(
                    System.Text.Encoding.ASCII.GetBytes(
                        output[at..(output.IndexOf("-----END CERTIFICATE-----", StringComparison.Ordinal) + 25)]
                    )
                )
                .Blocks[0]
                .Der
        ).Serial.Hex;
    }

    public void Dispose()
    {
        try
        {
            if (Connector.IsRunning())
                using (var p = Process.GetProcessById(Pid))
                {
                    Programs.Run("kill", ["-QUIT", p.Id.ToString()]);
                    p.WaitForExit(5000);
                }
        }
        catch (Exception e) when (e is ArgumentException or IOException) { }
        _scratch.Dispose();
    }
}
