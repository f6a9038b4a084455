using System.Diagnostics;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Nginx;
using OrderlyBeacon.Agent.Trust;
using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Agent.Tests.Trust;

/// <summary>A host with one trust store of a kind, which has a public root and another one; and two TLS servers, below the public root and below ours.</summary>
internal abstract class TrustBench : IDisposable
{
    private const string Name = "www.thistledown.example";
    private static int _next = Environment.ProcessId % 200;
    private readonly List<Process> _servers = [];
    private readonly Scratch _scratch = new();

    protected TrustBench()
    {
        Address = $"127.79.{Interlocked.Increment(ref _next) % 250}.1";
        foreach (var root in new[] { "public", "other", "ours" })
            Authority(root);
        Serve("public", 4431);
        Serve("ours", 4432);
    }

    protected string Address { get; }
    public string Folder => _scratch.Path;
    public abstract TrustPlace Place { get; }

    /// <summary>Servers that have files of anchors of their own.</summary>
    protected virtual IReadOnlyList<IConnector> Servers => [];

    /// <summary>Whether a real client of the store accepts the server at a port.</summary>
    protected abstract bool Accepts(int port);

    public bool AcceptsPublic => Accepts(4431);
    public bool AcceptsOurs => Accepts(4432);

    public TrustBook Book => new(Path.Combine(Folder, "agent"));

    /// <summary>As after a start of the agent.</summary>
    public TrustStores Stores => new([.. Servers.Count > 0 ? [] : new[] { Place }], new Instances(Servers), Book);

    public string Pem(string root) => Path.Combine(Folder, root + ".pem");

    public string Der(string root) => Convert.ToBase64String(Anchor.In(File.ReadAllText(Pem(root)))[0].Der.Span);

    public string Thumbprint(string root) => Anchor.In(File.ReadAllText(Pem(root)))[0].Thumbprint;

    public string Order(TrustAct act, string root)
    {
        var steps = new List<string>();
        var order = new Order(1, OrderKind.Trust, null, null, null, null, null, null, null, null, null, null)
        {
            Trust = new(Place.Kind, Place.Path, act, Der(root)),
        };
        new TrustWork(Stores, Book, TimeProvider.System).Run(order, steps, steps.Add);
        return steps[^1];
    }

    public FoundTrustStore Found => Assert.Single(Stores.Describe());

    /// <summary>What the store has, whatever its files look like.</summary>
    public string Content()
    {
        var content = Stores.Find(Place.Kind, Place.Path).Read();
        return string.Join(' ', content.Anchors.Select(a => a.Thumbprint).Order()) + " / " + string.Join(' ', content.Distrusted.Order());
    }

    private void Authority(string root) =>
        Programs.OpenSsl(
            $"req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {Folder}/{root}.key -out {Pem(root)} -days 300 -subj /O=Aldermoor/CN=Aldermoor-{root} -addext basicConstraints=critical,CA:TRUE -addext keyUsage=critical,keyCertSign"
        );

    private void Serve(string root, int port)
    {
        var leaf = Path.Combine(Folder, root + "-leaf");
        Programs.OpenSsl($"req -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {leaf}.key -out {leaf}.csr -subj /CN={Name}");
        File.WriteAllText(leaf + ".ext", $"subjectAltName=DNS:{Name}\nextendedKeyUsage=serverAuth\nkeyUsage=digitalSignature\n");
        Programs.OpenSsl(
            $"x509 -req -in {leaf}.csr -CA {Pem(root)} -CAkey {Folder}/{root}.key -set_serial 0x{port}77 -days 90 -out {leaf}.pem -extfile {leaf}.ext"
        );
        var start = new ProcessStartInfo("openssl", $"s_server -accept {Address}:{port} -cert {leaf}.pem -key {leaf}.key -www -quiet")
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            RedirectStandardInput = true,
        };
        _servers.Add(Process.Start(start)!);
        for (var i = 0; i < 100 && Programs.Run("openssl", ["s_client", "-connect", $"{Address}:{port}"]).Code != 0; i++)
            Thread.Sleep(50);
    }

    protected static bool Runs(string program, string arguments, params (string Name, string Value)[] environment) =>
        Programs.Run(program, arguments.Split(' '), [], environment.ToDictionary(e => e.Name, e => e.Value)).Code == 0;

    protected string Curl(int port) => $"-sf --noproxy * --connect-to {Name}:{port}:{Address}:{port} https://{Name}:{port}/";

    public virtual void Dispose()
    {
        foreach (var p in _servers)
        {
            p.Kill();
            p.Dispose();
        }
        _scratch.Dispose();
    }

    public static TrustBench Of(string kind) =>
        kind switch
        {
            "system" => new SystemBench(),
            "nss" => new NssBench(),
            "java" => new JavaBench("PKCS12"),
            "java, older form" => new JavaBench("JKS"),
            _ => new FileBench(),
        };

    /// <summary>Judged by curl (OpenSSL) and gnutls-cli, which must be of one mind.</summary>
    private sealed class SystemBench : TrustBench
    {
        public SystemBench()
        {
            foreach (
                var folder in new[]
                {
                    "usr/share/ca-certificates/public",
                    "usr/local/share/ca-certificates",
                    "etc/ssl/certs",
                    "etc/ca-certificates/update.d",
                }
            )
                Directory.CreateDirectory(Path.Combine(Folder, folder));
            foreach (var root in new[] { "public", "other" })
                File.Copy(Pem(root), Path.Combine(Folder, $"usr/share/ca-certificates/public/{root}.crt"));
            File.WriteAllText(Path.Combine(Folder, "etc/ca-certificates.conf"), "# the public ones\npublic/public.crt\npublic/other.crt\n");
            var (certificates, local) = (
                $"--certsconf {Folder}/etc/ca-certificates.conf --certsdir {Folder}/usr/share/ca-certificates",
                $"{Folder}/usr/local/share/ca-certificates"
            );
            Assert.True(
                Runs(
                    SystemTrust.Program,
                    $"{certificates} --localcertsdir {local} --etccertsdir {Folder}/etc/ssl/certs --hooksdir {Folder}/etc/ca-certificates/update.d"
                )
            );
        }

        public override TrustPlace Place => new(TrustKind.System, Folder);

        protected override bool Accepts(int port)
        {
            var bundle = Path.Combine(Folder, "etc/ssl/certs/ca-certificates.crt");
            var curl = Runs("curl", $"--cacert {bundle} {Curl(port)}");
            Assert.Equal(
                curl,
                Runs("gnutls-cli", $"--x509cafile {bundle} --verify-hostname={Name} --sni-hostname={Name} -p {port} {Address}")
            );
            return curl;
        }
    }

    /// <summary>Judged by Chromium itself.</summary>
    private sealed class NssBench : TrustBench
    {
        public NssBench()
        {
            Directory.CreateDirectory(Place.Path);
            Assert.True(Runs("certutil", $"-N -d sql:{Place.Path} --empty-password"));
            foreach (var root in new[] { "public", "other" })
                Assert.True(Runs("certutil", $"-A -d sql:{Place.Path} -n Aldermoor:-{root} -t C,, -i {Pem(root)}"));
        }

        public override TrustPlace Place => new(TrustKind.Nss, Path.Combine(Folder, "home/.pki/nssdb"));

        protected override bool Accepts(int port)
        {
            var home = Path.Combine(Folder, "home");
            var (_, output, _) = Programs.Run(
                "/usr/bin/chromium",
                [
                    .. "--headless --no-sandbox --disable-gpu --disable-dev-shm-usage --no-proxy-server --disable-background-networking --dump-dom".Split(
                        ' '
                    ),
                    $"--user-data-dir={Folder}/profile-{Guid.NewGuid():N}",
                    $"--host-resolver-rules=MAP {Name} {Address}",
                    $"https://{Name}:{port}/",
                ],
                [],
                new Dictionary<string, string> { ["HOME"] = home, ["XDG_CONFIG_HOME"] = home + "/.config" }
            );
            // What its page says of the connection; the page of a refusal says nothing of it.
            return output.Contains("TLSv1.3", StringComparison.Ordinal);
        }
    }

    /// <summary>Judged by keytool and by a TLS client in Java.</summary>
    private sealed class JavaBench : TrustBench
    {
        public JavaBench(string form)
        {
            foreach (var root in new[] { "public", "other" })
                Assert.True(
                    Runs(
                        "keytool",
                        $"-importcert -noprompt -alias aldermoor-{root} -file {Pem(root)} -keystore {Place.Path} -storetype {form} -storepass changeit"
                    )
                );
            File.WriteAllText(
                Path.Combine(Folder, "Client.java"),
                """
                import javax.net.ssl.*;
                public class Client {
                    public static void main(String[] a) throws Exception {
                        try (var s = (SSLSocket) SSLSocketFactory.getDefault().createSocket(a[0], Integer.parseInt(a[1]))) {
                            s.startHandshake();
                        } catch (SSLHandshakeException e) {
                            System.exit(3);
                        }
                    }
                }
                """
            );
            Assert.True(Runs("javac", $"-d {Folder} {Folder}/Client.java"));
        }

        public override TrustPlace Place => new(TrustKind.Java, Path.Combine(Folder, "cacerts"));

        protected override bool Accepts(int port)
        {
            var root = port == 4431 ? "public" : "ours";
            var client = Runs(
                "java",
                $"-Xshare:auto -XX:TieredStopAtLevel=1 -cp {Folder} -Djavax.net.ssl.trustStore={Place.Path} -Djavax.net.ssl.trustStorePassword=changeit Client {Address} {port}"
            );
            var listed = Programs.Run("keytool", $"-list -rfc -keystore {Place.Path} -storepass changeit".Split(' ')).Output;
            Assert.Equal(client, Anchor.In(listed).Any(a => a.Thumbprint == Thumbprint(root)));
            return client;
        }
    }

    /// <summary>nginx, which passes on to servers that it verifies by a file of its own; judged by curl through it.</summary>
    private sealed class FileBench : TrustBench
    {
        private readonly string _configuration;

        public FileBench()
        {
            _configuration = Path.Combine(Folder, "nginx.conf");
            Directory.CreateDirectory(Path.Combine(Folder, "tmp"));
            File.WriteAllText(
                Place.Path,
                "# whom we trust\r\n"
                    + File.ReadAllText(Pem("public")).Replace("\n", "\r\n")
                    + "# and\r\n"
                    + File.ReadAllText(Pem("other")).Replace("\n", "\r\n")
                    + "# no more"
            );
            string Site(int port) =>
                $"server {{ listen {Address}:{port + 1000}; location / {{ proxy_pass https://{Address}:{port}; proxy_ssl_verify on; proxy_ssl_name {Name}; proxy_ssl_server_name on; proxy_ssl_trusted_certificate behind.pem; }} }}";
            File.WriteAllText(
                _configuration,
                $$"""
                {{(Environment.UserName == "root" ? "user root;" : "")}}
                worker_processes 1;
                pid {{Folder}}/nginx.pid;
                error_log {{Folder}}/error.log notice;
                events { worker_connections 64; }
                http {
                    access_log off;
                    client_body_temp_path tmp/a; proxy_temp_path tmp/b; fastcgi_temp_path tmp/c; uwsgi_temp_path tmp/d; scgi_temp_path tmp/e;
                    {{Site(4431)}}
                    {{Site(4432)}}
                }
                """
            );
            Servers = [new NginxConnector(new("nginx", "nginx", _configuration), new("nginx", "/usr/sbin/nginx", _configuration, Folder))];
            Assert.True(Runs("/usr/sbin/nginx", $"-e {Folder}/error.log -p {Folder} -c {_configuration}"));
        }

        protected override IReadOnlyList<IConnector> Servers { get; }

        public override TrustPlace Place => new(TrustKind.File, Path.Combine(Folder, "behind.pem"));

        protected override bool Accepts(int port)
        {
            // Workers of before answer until they have gone.
            for (var i = 0; i < 40 && !Servers[0].IsSettled(); i++)
                Thread.Sleep(50);
            return Runs("curl", $"-sf --noproxy * http://{Address}:{port + 1000}/");
        }

        public override void Dispose()
        {
            Runs("kill", File.ReadAllText(Path.Combine(Folder, "nginx.pid")).Trim());
            base.Dispose();
        }
    }
}
