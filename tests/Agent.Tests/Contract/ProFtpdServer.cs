using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.ProFtpd;

namespace OrderlyBeacon.Agent.Tests.Contract;

internal sealed class ProFtpdServer : RealServer
{
    private const int Port = 2121;

    public ProFtpdServer()
    {
        foreach (var f in new[] { "conf", "run" })
            Directory.CreateDirectory(Path.Combine(Folder, f));
        Connector = new ProFtpdConnector(new("proftpd", "proftpd", MainFile), new("proftpd", "/usr/sbin/proftpd", MainFile, null));
    }

    public override IConnector Connector { get; }
    public override string Service => "proftpd";
    public override string Name => "files.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(Port, "ftp")];
    public override string ConfigFolder => Path.Combine(Folder, "conf");
    public override string MainFile => Path.Combine(ConfigFolder, "proftpd.conf");
    public override string BrokenLine => "NoSuchDirective on";
    public override int Pid => ServerProcess.InFile(Path.Combine(Folder, "run/proftpd.pid")) ?? 0;

    public override void Configure((string Certificate, string Key)? foreign)
    {
        // A certificate of the other kind of key.
        if (foreign is { } f)
            Programs.OpenSsl(
                $"req -x509 -newkey rsa:2048 -nodes -keyout {f.Key} -out {f.Certificate} -days 30 -subj /CN={Name} -addext subjectAltName=DNS:{Name}"
            );
        // The password is pw.
        File.WriteAllText(
            Path.Combine(Folder, "run/people"),
            $"robin:{Programs.Run("openssl", ["passwd", "-6", "pw"]).Output.Trim()}:65534:65534::{Folder}/run:/bin/false\n"
        );
        File.SetUnixFileMode(Path.Combine(Folder, "run/people"), UnixFileMode.UserRead | UnixFileMode.UserWrite);
        var tls = foreign is { } g
            ? $"""
                <IfModule mod_tls.c>
                  TLSEngine on
                  TLSRSACertificateFile   {g.Certificate}
                  TLSRSACertificateKeyFile "{g.Key}"
                </IfModule>

                """
            : "";
        File.WriteAllText(
            MainFile,
            $"""
            # Thistledown Rail
            LoadModule mod_tls.c
            <IfModule mod_ctrls.c>
              ControlsEngine off
            </IfModule>
            ServerName "Thistledown Rail's files"
            ServerType standalone
            DefaultAddress {Address}
            SocketBindTight on
            Port {Port}
            UseIPv6 off
            UseReverseDNS off
            WtmpLog off
            User nobody
            Group nogroup
            PidFile {Folder}/run/proftpd.pid
            ScoreboardFile {Folder}/run/scoreboard
            DelayEngine off
            SystemLog {Folder}/run/proftpd.log
            TLSLog {Folder}/run/tls.log
            TransferLog none
            RequireValidShell off
            AuthOrder mod_auth_file.c
            AuthUserFile {Folder}/run/people
            DefaultRoot {Folder}/run
            {tls}
            """
        );
    }

    public override void Start() => Connector.Start();

    public override void Stop()
    {
        if (Connector.IsRunning())
            Programs.Run("kill", ["-TERM", Pid.ToString()]);
    }

    public override bool GoesInTheClear() =>
        Programs.Run("curl", ["-s", "-m", "10", $"ftp://{Address}:{Port}/", "-u", "robin:pw"]).Code == 0;

    public override Task<IConversation> TalkAsync() => LineConversation.OpenAsync(Address, Port, false, [("", "220 ")], "FEAT", "211 End");
}

public sealed class ProFtpdContractTests() : ContractTests(() => new ProFtpdServer());
