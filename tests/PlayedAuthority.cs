using System.IO.Compression;

namespace OrderlyBeacon.Testing;

/// <summary>An authority that is not ours, played by openssl: a root, one below it, and answers.</summary>
internal sealed class PlayedAuthority
{
    private readonly Scratch _scratch;
    private int _serial;

    public PlayedAuthority(Scratch scratch, string name = "Harbour Trust")
    {
        _scratch = scratch;
        Name = name.Replace(' ', '-').ToLowerInvariant();
        var subject = name.Replace(' ', '_');
        Programs.OpenSsl(
            $"req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {Path("root.key")} -out {Root} -days 3000 -subj /CN={subject}_Root -addext basicConstraints=critical,CA:TRUE -addext keyUsage=critical,keyCertSign,cRLSign"
        );
        Programs.OpenSsl(
            $"req -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {Path("sub.key")} -out {Path("sub.csr")} -subj /CN={subject}_Servers"
        );
        var extensions = _scratch.File(
            $"{Name}-sub.ext",
            "basicConstraints=critical,CA:TRUE,pathlen:0\nkeyUsage=critical,keyCertSign,cRLSign\n"
        );
        Programs.OpenSsl(
            $"x509 -req -in {Path("sub.csr")} -CA {Root} -CAkey {Path("root.key")} -set_serial 0x4711 -days 1000 -out {Intermediate} -extfile {extensions}"
        );
    }

    public string Name { get; }
    public string Root => Path("root.pem");
    public string Intermediate => Path("sub.pem");

    private string Path(string file) => _scratch[$"{Name}-{file}"];

    /// <summary>Signs a CSR as it is, or with other names, and gives the leaf's file.</summary>
    /// <param name="issuerAt">Where the answer says that its issuer lies.</param>
    public string Answer(string csrPem, string? names = null, string? issuerAt = null, int days = 60)
    {
        var n = ++_serial;
        var csr = _scratch.File($"{Name}-{n}.csr", csrPem);
        var extensions = _scratch.File(
            $"{Name}-{n}.ext",
            "basicConstraints=CA:FALSE\nkeyUsage=digitalSignature\nextendedKeyUsage=serverAuth\n"
                + (names is null ? "" : $"subjectAltName={names}\n")
                + (issuerAt is null ? "" : $"authorityInfoAccess=caIssuers;URI:{issuerAt}\n")
        );
        var leaf = Path($"{n}.pem");
        Programs.OpenSsl(
            $"x509 -req -in {csr} -CA {Intermediate} -CAkey {Path("sub.key")} -set_serial 0x{Random.Shared.NextInt64(1L << 60, 1L << 62):x} -days {days} -out {leaf} -extfile {extensions}"
                + (names is null ? " -copy_extensions copy" : "")
        );
        return leaf;
    }

    /// <summary>As authorities send it: a ZIP with a note, the leaf as DER, the chain as PKCS#7 with the root in it, in no useful order.</summary>
    public string Zip(string leaf)
    {
        var (bundle, der, zip) = (Path("bundle.p7b"), Path("leaf.cer"), Path($"answer-{_serial}.zip"));
        Programs.OpenSsl($"crl2pkcs7 -nocrl -certfile {Root} -certfile {Intermediate} -outform DER -out {bundle}");
        Programs.OpenSsl($"x509 -in {leaf} -outform DER -out {der}");
        File.Delete(zip);
        using var archive = ZipFile.Open(zip, ZipArchiveMode.Create);
        archive.CreateEntryFromFile(bundle, "order-77/1-chain.p7b");
        using (var note = new StreamWriter(archive.CreateEntry("order-77/README.txt").Open()))
            note.WriteLine("Thank you for your order.");
        archive.CreateEntryFromFile(der, "order-77/zz-certificate.cer");
        return zip;
    }
}
