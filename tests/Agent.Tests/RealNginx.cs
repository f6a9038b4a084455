using System.Diagnostics;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Nginx;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;

namespace OrderlyBeacon.Agent.Tests;

/// <summary>A private nginx on a loopback address of its own, and an authority to issue for it.</summary>
internal sealed class RealNginx : IDisposable
{
    private static int _next = Environment.ProcessId % 200;
    private readonly Scratch _scratch = new();
    private readonly SwapBench _bench;

    public RealNginx(string sites)
    {
        Address = $"127.77.{Interlocked.Increment(ref _next) % 250}.1";
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
        Connector = new(new("nginx", "nginx", _scratch["nginx.conf"]), new("nginx", Binary, _scratch["nginx.conf"], Folder));
        _bench = new(Folder);
    }

    public const string Binary = "/usr/sbin/nginx";
    public string Address { get; }
    public string Folder => _scratch.Path;
    public string SitePath => _scratch["sites/all.conf"];
    public NginxConnector Connector { get; }
    public CertificateStore Store => _bench.Store;
    public SwapJournal Journal => _bench.Journal;
    public BoundBook Bounds => _bench.Bounds;
    public List<string> Steps => _bench.Steps;
    public SwapRun Swap => _bench.Swap;

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

    public StoreEntry Issue(string certificate, params string[] names) => _bench.Issue(certificate, names);

    public Task<IReadOnlyList<Contracts.LookReport>> BindAsync(StoreEntry e, params string[] services) =>
        _bench.BindAsync(e, 8443, [.. services.Select(Service)]);

    public ServiceRef Service(string name) => new(Connector, name, name);

    /// <summary>The serial that openssl sees, or null.</summary>
    public string? Served(string name, int port = 8443) => SwapBench.Served(Address, port, name);

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
