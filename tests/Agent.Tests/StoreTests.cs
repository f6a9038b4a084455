using System.Security.Cryptography;
using System.Text.Json;
using OrderlyBeacon.Agent.Enrolment;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Agent.Tests;

/// <summary>The agent writes as root: nobody who may write somewhere gets it to give a file away.</summary>
public sealed class StoreTests
{
    private const UnixFileMode Own = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;
    private const UnixFileMode Everybody =
        Own
        | UnixFileMode.GroupRead
        | UnixFileMode.GroupWrite
        | UnixFileMode.GroupExecute
        | UnixFileMode.OtherRead
        | UnixFileMode.OtherWrite
        | UnixFileMode.OtherExecute;

    private static string Secret(Scratch s)
    {
        var path = s.File("root-only", "a secret of root's");
        File.SetUnixFileMode(path, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        return path;
    }

    private static void Untouched(string secret)
    {
        Assert.Equal("a secret of root's", File.ReadAllText(secret));
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(secret));
    }

    [Fact]
    public void A_link_in_the_way_is_replaced_and_not_followed()
    {
        using var s = new Scratch();
        var secret = Secret(s);
        var folder = Directory.CreateDirectory(s["site"], Own).FullName;
        // In the place of the file, and in the place of the file that is not there yet.
        foreach (var planted in new[] { "chain.pem", ".beacon-chain.pem.new" })
            File.CreateSymbolicLink(Path.Combine(folder, planted), secret);
        AtomicFiles.Write(Path.Combine(folder, "chain.pem"), "public"u8, isPrivate: false);
        Untouched(secret);
        Assert.Null(new FileInfo(Path.Combine(folder, "chain.pem")).LinkTarget);
        Assert.Equal("public", File.ReadAllText(Path.Combine(folder, "chain.pem")));
        Assert.Equal(["chain.pem"], Directory.EnumerateFileSystemEntries(folder).Select(Path.GetFileName));
    }

    [Fact]
    public void A_folder_that_others_can_write_is_refused_with_the_cure_wherever_it_stands()
    {
        using var s = new Scratch();
        var secret = Secret(s);
        var open = Directory.CreateDirectory(s["open"]).FullName;
        File.SetUnixFileMode(open, Everybody);
        var below = Directory.CreateDirectory(Path.Combine(open, "below"), Own).FullName;
        File.WriteAllText(Path.Combine(open, "site.conf"), "as it was");
        var linked = s["linked"];
        Directory.CreateSymbolicLink(linked, below);
        foreach (
            var write in new Action[]
            {
                () => AtomicFiles.Write(Path.Combine(open, "key.pem"), "k"u8, isPrivate: true),
                () => AtomicFiles.Write(Path.Combine(below, "key.pem"), "k"u8, isPrivate: true),
                () => AtomicFiles.Write(Path.Combine(linked, "key.pem"), "k"u8, isPrivate: true),
                () => AtomicFiles.Replace(Path.Combine(open, "site.conf"), "n"u8),
                () => AtomicFiles.Link(Path.Combine(open, "live"), secret),
                () => AtomicFiles.MoveFolder(below, Path.Combine(open, "moved")),
            }
        )
        {
            var refused = Assert.Throws<BeaconProblem>(write);
            Assert.Equal(ProblemCode.CannotWrite, refused.Code);
            Assert.Contains("other accounts can write there", refused.Message);
            Assert.Contains($"chmod go-w {open}", refused.Cure);
        }
        Assert.Equal("as it was", File.ReadAllText(Path.Combine(open, "site.conf")));
        Assert.Equal(["below", "site.conf"], Directory.EnumerateFileSystemEntries(open).Select(Path.GetFileName).Order());
        Untouched(secret);
    }

    [Fact]
    public async Task Who_swaps_a_folder_for_a_link_all_the_time_gains_nothing()
    {
        using var s = new Scratch();
        var secret = Secret(s);
        var open = Directory.CreateDirectory(s["open"]).FullName;
        File.SetUnixFileMode(open, Everybody);
        var target = Path.Combine(open, ".beacon-chain.pem.new");
        using var end = new CancellationTokenSource();
        var swapping = Task.Run(() =>
        {
            while (!end.IsCancellationRequested)
            {
                try
                {
                    File.CreateSymbolicLink(target, secret);
                    File.Delete(target);
                }
                catch (IOException) { }
            }
        });
        for (var i = 0; i < 300; i++)
            Assert.Throws<BeaconProblem>(() => AtomicFiles.Write(Path.Combine(open, "chain.pem"), "public"u8, isPrivate: false));
        // And where it is not refused, since the folder is ours: the one who swaps is then ourselves.
        File.SetUnixFileMode(open, Own);
        for (var i = 0; i < 300; i++)
            try
            {
                AtomicFiles.Write(Path.Combine(open, "chain.pem"), "public"u8, isPrivate: false);
            }
            catch (BeaconProblem p)
            {
                Assert.Equal(ProblemCode.CannotWrite, p.Code);
            }
        await end.CancelAsync();
        await swapping;
        Untouched(secret);
    }

    [Fact]
    public void A_replaced_file_keeps_its_mode_and_a_private_one_is_never_readable_in_between()
    {
        using var s = new Scratch();
        var folder = Directory.CreateDirectory(s["own"], Own).FullName;
        var path = Path.Combine(folder, "site.conf");
        File.WriteAllText(path, "old");
        File.SetUnixFileMode(path, UnixFileMode.UserRead | UnixFileMode.GroupRead);
        AtomicFiles.Replace(path, "new"u8);
        Assert.Equal("new", File.ReadAllText(path));
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.GroupRead, File.GetUnixFileMode(path));
        AtomicFiles.Write(Path.Combine(folder, "key.pem"), "k"u8, isPrivate: true);
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(Path.Combine(folder, "key.pem")));
    }

    private static readonly DateTimeOffset Now = DateTimeOffset.UtcNow;

    private static X509 Root(ISigner key, string name, int days = 1000, ISigner? by = null, string? issuer = null) =>
        X509.Read(
            CertificateWriter.Issue(
                new CertificateContent
                {
                    Serial = SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16)),
                    Issuer = DistinguishedName.Parse(issuer ?? name),
                    Subject = DistinguishedName.Parse(name),
                    PublicKey = key.PublicKey,
                    NotBefore = Now.AddDays(-2000),
                    NotAfter = Now.AddDays(days),
                    IsAuthority = true,
                    KeyUsage = KeyUsages.KeyCertSign | KeyUsages.CrlSign,
                },
                by ?? key
            )
        );

    private static KeySigner Key() => new(ECDsa.Create(ECCurve.NamedCurves.nistP256));

    [Fact]
    public void New_anchors_come_only_from_anchors_that_are_there()
    {
        var (old, next, last, stranger) = (Key(), Key(), Key(), Key());
        const string name = "CN=Thistledown Rail Root";
        var have = Root(old, name);
        // The same key renewed; a new key that the old one certified; and one more after that.
        var renewed = Root(old, name, 4000);
        var (second, bridge) = (Root(next, name), Root(next, name, 900, old, name));
        var (third, bridge2) = (Root(last, name), Root(last, name, 900, next, name));
        Assert.Equal([have, renewed], AnchorSuccession.Next([have], [renewed], Now));
        Assert.Equal([have, second, third], AnchorSuccession.Next([have], [third, bridge2, second, bridge], Now));
        // A root that nobody vouches for, whoever says so, under whatever name, with whatever bridge of its own.
        var (false1, false2) = (Root(stranger, name), Root(stranger, name, 900, stranger, name));
        Assert.Equal([have], AnchorSuccession.Next([have], [false1, false2, second], Now));
        // One that has not expired is never dropped, and the last one not even then.
        Assert.Equal([have], AnchorSuccession.Next([have], [], Now));
        var ended = Root(old, name, -1);
        Assert.Equal([ended], AnchorSuccession.Next([ended], [false1], Now));
        Assert.Equal([renewed], AnchorSuccession.Next([ended], [renewed], Now));
    }

    [Fact]
    public void What_is_left_of_a_forgotten_entry_is_listed_and_spoils_nothing()
    {
        using var s = new Scratch();
        foreach (
            var (folder, certificates) in new[]
            {
                ("a--01", null),
                ("b--02", ""),
                ("c--03", "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n"),
            }
        )
        {
            var path = Path.Combine(s.Path, "keyed", folder);
            Directory.CreateDirectory(Path.Combine(path, "pair"));
            File.WriteAllText(
                Path.Combine(path, "entry.json"),
                $$"""{"certificate":"{{folder[..1]}}","serial":"{{folder[3..]}}","thumbprint":"00","notAfter":"2027-01-01T00:00:00Z","order":1}"""
            );
            if (certificates is not null)
                File.WriteAllText(Path.Combine(path, "pair", "certificates.pem"), certificates);
        }
        var listed = new CertificateStore(s.Path).List();
        Assert.Equal(["a", "b", "c"], listed.Select(e => e.Certificate));
        Assert.All(listed, e => Assert.Null(e.Key));
    }

    [Fact]
    public void An_order_of_an_unknown_kind_does_not_spoil_the_others()
    {
        const string text = """
            {"orders":[{"id":1,"kind":"fly","certificate":null,"subject":null,"names":null,"key":null,"serial":null,"services":null,"port":null,"address":null,"serverName":null,"anchors":null},
                       {"id":2,"kind":"obtain","certificate":"a","subject":null,"names":["a.example"],"key":"ec-p256","serial":null,"services":null,"port":null,"address":null,"serverName":null,"anchors":null}]}
            """;
        var orders = JsonSerializer.Deserialize(text, BeaconJson.Default.OrderList)!.Orders;
        Assert.Equal([OrderKind.Unknown, OrderKind.Obtain], orders.Select(o => o.Kind));
    }
}
