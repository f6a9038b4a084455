using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Apache;

namespace OrderlyBeacon.Agent.Tests.Contract;

internal sealed class ApacheServer : RealServer
{
    private const int Plain = 8080,
        Tls = 8443;

    public ApacheServer()
    {
        foreach (var f in new[] { "conf/sites", "run", "www" })
            Directory.CreateDirectory(Path.Combine(Folder, f));
        File.WriteAllText(Path.Combine(Folder, "www/index.html"), "hello");
        Connector = new ApacheConnector(new("apache", "apache", Main), new("apache", "/usr/sbin/apache2", Main, null));
    }

    private string Main => Path.Combine(ConfigFolder, "apache2.conf");
    public override IConnector Connector { get; }
    public override string Service => Name;
    public override string Name => "intranet.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(Tls, null)];
    public override string ConfigFolder => Path.Combine(Folder, "conf");
    public override string MainFile => Path.Combine(ConfigFolder, "sites/intranet.conf");
    public override string BrokenLine => "NoSuchDirective on";
    public override int Pid => ServerProcess.InFile(Path.Combine(Folder, "run/apache2.pid")) ?? 0;

    public override void Configure((string Certificate, string Key)? foreign)
    {
        const string Modules = "/usr/lib/apache2/modules";
        File.WriteAllText(Path.Combine(ConfigFolder, "envvars"), $"export RAIL_LOGS={Folder}/run$SUFFIX\n");
        File.WriteAllText(
            Main,
            $$"""
            # Thistledown Rail
            ServerRoot "{{ConfigFolder}}"
            DefaultRuntimeDir {{Folder}}/run
            PidFile ${RAIL_LOGS}/apache2.pid
            ErrorLog ${RAIL_LOGS}/error.log
            ServerName localhost
            User nobody
            Group nogroup
            LoadModule mpm_event_module {{Modules}}/mod_mpm_event.so
            LoadModule authz_core_module {{Modules}}/mod_authz_core.so
            LoadModule dir_module {{Modules}}/mod_dir.so
            LoadModule alias_module {{Modules}}/mod_alias.so
            LoadModule ssl_module {{Modules}}/mod_ssl.so
            StartServers 1
            ServerLimit 2
            ThreadsPerChild 8
            MaxRequestWorkers 16
            MinSpareThreads 4
            MaxSpareThreads 8
            <IfModule mod_ssl.c>
                SSLSessionCache none
            </IfModule>
            <IfModule no_such_module>
                Include nowhere.conf
            </IfModule>
            Listen {{Address}}:{{Plain}}
            IncludeOptional sites/*.conf
            """ + "\n"
        );
        var tls = foreign is { } f
            ? $"""
                Listen {Address}:{Tls}
                <VirtualHost *:{Tls}>
                    ServerName {Name}
                    ServerAlias intranet
                    DocumentRoot {Folder}/www
                    SSLEngine On
                    SSLCertificateFile "{f.Certificate}"
                    sslcertificatekeyfile {f.Key}
                </VirtualHost>

                """
            : "";
        File.WriteAllText(
            MainFile,
            $"""
            <Directory {Folder}/www>
                Require all granted
            </Directory>
            <VirtualHost {Address}:{Plain}>
                # It's plain.
                ServerName {Name}
                ServerAlias intranet
                DocumentRoot {Folder}/www
                DirectoryIndex \
                    index.html
            </VirtualHost>
            {tls}
            """
        );
    }

    public override void Start() => Connector.Start();

    // Its servers outlive a first process that was killed.
    public override void Stop() => Programs.Run("pkill", ["-KILL", "-f", Main]);

    public override bool GoesInTheClear() => IsPageRead(Plain);

    public override async Task<IConversation> TalkAsync() => await HalfRequest.OpenAsync(Address, Plain, "/", Name);
}

public sealed class ApacheContractTests() : ContractTests(() => new ApacheServer());
