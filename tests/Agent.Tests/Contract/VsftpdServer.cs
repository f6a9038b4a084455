using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Vsftpd;

namespace OrderlyBeacon.Agent.Tests.Contract;

internal sealed class VsftpdServer : RealServer
{
    private const int Port = 2122;

    public VsftpdServer()
    {
        foreach (var f in new[] { "conf", "run/empty", "files" })
            Directory.CreateDirectory(Path.Combine(Folder, f));
        File.WriteAllText(Path.Combine(Folder, "files/timetable.txt"), "05:12 Thistledown\n");
        Connector = new VsftpdConnector(new("vsftpd", "vsftpd", MainFile), new("vsftpd", Binary, MainFile, null));
    }

    // Its package and ProFTPD's shut each other out: it is unpacked, not installed.
    private static string Binary =>
        new[] { "/usr/sbin/vsftpd", Path.Combine(Programs.Root, "out/unpacked/vsftpd/usr/sbin/vsftpd") }.FirstOrDefault(File.Exists)
        ?? throw new InvalidOperationException("There is no vsftpd; ./check brings it.");

    public override IConnector Connector { get; }
    public override string Service => "vsftpd";
    public override string Name => "files.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(Port, "ftp")];
    public override string ConfigFolder => Path.Combine(Folder, "conf");
    public override string MainFile => Path.Combine(ConfigFolder, "vsftpd.conf");
    public override string BrokenLine => "no_such_setting=YES";
    public override bool IsCutOffByRenewals => true;
    public override int Pid => ((VsftpdConnector)Connector).Pid() ?? 0;

    public override void Configure((string Certificate, string Key)? foreign)
    {
        var tls = foreign is { } f
            ? $"ssl_enable=YES\nrsa_cert_file={f.Certificate}\nrsa_private_key_file={f.Key}\nssl_ciphers=HIGH\n"
            : "";
        File.WriteAllText(
            MainFile,
            $"""
            # Thistledown Rail
            listen=YES
            listen_address={Address}
            listen_port={Port}
            anonymous_enable=YES
            local_enable=NO
            anon_root={Folder}/files
            ftp_username=daemon
            nopriv_user=nobody
            secure_chroot_dir={Folder}/run/empty
            xferlog_enable=NO
            require_ssl_reuse=NO
            seccomp_sandbox=NO
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
        Programs.Run("curl", ["-s", "-m", "10", $"ftp://{Address}:{Port}/timetable.txt"]).Output.Contains("Thistledown");

    public override Task<IConversation> TalkAsync() => LineConversation.OpenAsync(Address, Port, false, [("", "220 ")], "FEAT", "211 End");
}

public sealed class VsftpdContractTests() : ContractTests(() => new VsftpdServer());
