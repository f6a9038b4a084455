using System.Net.Sockets;
using OrderlyBeacon.Agent.Connectors.Broker;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Tests.Contract;

/// <summary>The stand-in of a desktop broker.</summary>
internal sealed class BrokerServer : RealServer
{
    private const int Port = 4443;

    public BrokerServer()
    {
        foreach (var f in new[] { "conf", "run" })
            Directory.CreateDirectory(Path.Combine(Folder, f));
        File.WriteAllText(Passphrase, "of former days\n");
        Connector = new BrokerConnector(new("broker", "broker", MainFile), new("broker", Own.StandIns, MainFile, null));
    }

    private string Passphrase => Path.Combine(Folder, "run/passphrase");
    public override Agent.Connectors.IConnector Connector { get; }
    public override string Service => "broker";
    public override string Name => "desk.thistledown.example";
    public override IReadOnlyList<Door> Doors => [new(Port, null)];
    public override string ConfigFolder => Path.Combine(Folder, "conf");
    public override string MainFile => Path.Combine(ConfigFolder, "broker.conf");
    public override string BrokenLine => "no-such-setting = 1";
    public override bool IsCutOffByRenewals => true;
    public override int Pid => ((BrokerConnector)Connector).Pid() ?? 0;

    public override void Configure((string Certificate, string Key)? foreign)
    {
        if (foreign is { } f)
            Keystore(f.Certificate, f.Certificate, f.Key, "broker");
        Write(foreign?.Certificate);
    }

    public void Write(string? keystore) =>
        File.WriteAllText(
            MainFile,
            $"""
            # Thistledown Rail: desktops
            listen = {Address}:{Port}
            name = {Name}
            label = broker
            pid-file = {Folder}/run/broker.pid
            log-file = {Folder}/run/broker.log
            {(keystore is null ? "" : $"keystore={keystore}\npassphrase-file = {Passphrase}")}

            """
        );

    /// <summary>As openssl writes it: with labels, and everything encrypted.</summary>
    public void Keystore(string to, string certificate, string key, string label)
    {
        var made = Path.Combine(Folder, "run/made.p12");
        Programs.OpenSsl($"pkcs12 -export -in {certificate} -inkey {key} -name {label} -passout file:{Passphrase} -out {made}");
        File.Move(made, to, overwrite: true);
    }

    public override void Start() => Connector.Start();

    public override void Stop()
    {
        if (Connector.IsRunning())
            Programs.Run("kill", ["-TERM", Pid.ToString()]);
    }

    public override void Spoil(string used, string otherKey)
    {
        var made = Path.Combine(Folder, "run/spoil.p12");
        Programs.OpenSsl($"pkcs12 -export -nocerts -inkey {otherKey} -passout pass:another -out {made}");
        File.WriteAllBytes(used, File.ReadAllBytes(made));
    }

    public override bool GoesInTheClear() => IsPageRead(Port);

    public override async Task<IConversation> TalkAsync()
    {
        var client = new TcpClient();
        await client.ConnectAsync(Address, Port);
        return new Open(client);
    }

    private sealed class Open(TcpClient client) : IConversation
    {
        public Task GoOnAsync() => throw new InvalidOperationException("it is cut off");

        public void Dispose() => client.Dispose();
    }
}

public sealed class BrokerContractTests() : ContractTests(() => new BrokerServer())
{
    private static CancellationToken Stop => TestContext.Current.CancellationToken;

    [Fact]
    public async Task Two_that_carry_its_label_are_told_and_give_way()
    {
        using var s = new BrokerServer();
        var pair = s.ForeignPair();
        var (one, two, both) = (Path.Combine(s.Folder, "one.p12"), Path.Combine(s.Folder, "two.p12"), Path.Combine(s.Folder, "both.p12"));
        s.Keystore(one, pair.Certificate, pair.Key, "broker");
        var other = s.ForeignPair("former.thistledown.example");
        s.Keystore(two, other.Certificate, other.Key, "second");
        // The keytool of Java merges them; then the second is called like the first, by a hand that does not know better.
        var passphrase = File.ReadAllText(Path.Combine(s.Folder, "run/passphrase")).Trim();
        File.WriteAllBytes(both, Merged(File.ReadAllBytes(one), File.ReadAllBytes(two), passphrase));
        s.Write(both);
        s.Start();
        Assert.Null(s.Served(s.Doors[0]));
        var entry = s.Bench.Issue(s.Name, s.Name);
        var plan = s.Bench.Swap.Describe(entry, s.Ref, null);
        Assert.Contains(plan.Warnings, w => w.StartsWith("2 entries") && w.Contains("takes none"));
        await s.BindAsync(entry);
        Assert.Equal(entry.File.Serial, s.Served(s.Doors[0]));
        Assert.DoesNotContain(s.Bench.Swap.Describe(entry, s.Ref, null).Warnings, w => w.Contains("carry the label"));
    }

    private static byte[] Merged(byte[] one, byte[] two, string passphrase)
    {
        var builder = new System.Security.Cryptography.Pkcs.Pkcs12Builder();
        foreach (var bytes in new[] { one, two })
        {
            var certificate = System.Security.Cryptography.X509Certificates.X509CertificateLoader.LoadPkcs12(
                bytes,
                passphrase,
                System.Security.Cryptography.X509Certificates.X509KeyStorageFlags.Exportable
            );
            var safe = new System.Security.Cryptography.Pkcs.Pkcs12SafeContents();
            var name = new System.Security.Cryptography.Pkcs.Pkcs9AttributeObject("1.2.840.113549.1.9.20", Label());
            safe.AddCertificate(certificate).Attributes.Add(name);
            safe.AddShroudedKey(
                    System.Security.Cryptography.X509Certificates.ECDsaCertificateExtensions.GetECDsaPrivateKey(certificate)!,
                    passphrase,
                    new(
                        System.Security.Cryptography.PbeEncryptionAlgorithm.Aes256Cbc,
                        System.Security.Cryptography.HashAlgorithmName.SHA256,
                        2000
                    )
                )
                .Attributes.Add(name);
            builder.AddSafeContentsUnencrypted(safe);
        }
        builder.SealWithMac(passphrase, System.Security.Cryptography.HashAlgorithmName.SHA256, 2000);
        return builder.Encode();
    }

    private static byte[] Label()
    {
        var w = new System.Formats.Asn1.AsnWriter(System.Formats.Asn1.AsnEncodingRules.DER);
        w.WriteCharacterString(System.Formats.Asn1.UniversalTagNumber.BMPString, "broker");
        return w.Encode();
    }

    [Fact]
    public async Task A_key_that_stays_on_its_host_is_not_for_it()
    {
        using var s = new BrokerServer();
        s.Configure(null);
        s.Start();
        var entry = s.Bench.Issue(s.Name, s.Name);
        var kept = s.Bench.Store.Describe(entry, entry.File with { Releasable = false });
        var p = await Assert.ThrowsAsync<BeaconProblem>(() => s.BindAsync(kept));
        Assert.Equal(ProblemCode.NotAllowed, p.Code);
        Assert.Contains("may be released", p.Cure);
        Assert.Null(s.Served(s.Doors[0]));
    }
}
