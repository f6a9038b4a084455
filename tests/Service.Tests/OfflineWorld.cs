using System.Security.Cryptography;
using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Service.Tests;

/// <summary>A service whose authority stands under an offline root in a folder, driven by client commands as people type them.</summary>
internal sealed class OfflineWorld : IAsyncDisposable
{
    public RunningService Service { get; } = new();
    public Scratch Scratch => Service.Scratch;

    /// <summary>The root's folder.</summary>
    public string Root => Scratch["root"];

    /// <summary>Where files are carried.</summary>
    public string Carried => Directory.CreateDirectory(Scratch["carried"]).FullName;
    public string Plain => $"http://localhost:{Service.PublicationPort}";
    public static readonly Dictionary<string, string> Waiting = new() { ["BEACON_FOUNDING"] = "offline" };

    public OfflineWorld() => Scratch.File("password", RunningService.Password);

    public (int Code, string Output, string Error) Run(params string[] args) =>
        Programs.Run(
            "bash",
            ["-c", $"cd \"$WHERE\" && exec \"$0\" \"$@\" 3<<<'{Passphrase}'", Own.Client, .. args],
            [],
            new Dictionary<string, string>
            {
                ["BEACON_HOME"] = Scratch["home"],
                ["COLUMNS"] = "200",
                ["WHERE"] = Carried,
            }
        );

    public string Good(params string[] args)
    {
        var (code, output, error) = Run(args);
        Assert.True(code == 0, string.Join(' ', args) + "\n" + output + error + Service.Errors);
        return output;
    }

    public string Bad(string says, params string[] args)
    {
        var (code, output, error) = Run(args);
        Assert.True(code != 0, output);
        Assert.Contains(says, System.Text.RegularExpressions.Regex.Replace(error, @"\s+", " "));
        Assert.DoesNotContain("   at ", error);
        return error;
    }

    /// <summary>The newest of what left the root.</summary>
    public string Out(string pattern) =>
        Directory
            .EnumerateFiles(Path.Combine(Root, "out"), pattern)
            .OrderBy(File.GetLastWriteTimeUtc)
            .ThenBy(f => f, StringComparer.Ordinal)
            .Last();

    private const string Passphrase = "five quiet words in a row";

    /// <summary>Founds the root, and seals its key lightly: guessing need not be dear here, and every signing opens it.</summary>
    /// <param name="published">Where the outside finds what is published.</param>
    public void Found(string? published = null)
    {
        Create(published);
        var file = Path.Combine(Root, "root-key-1.pem");
        using var key = ECDsa.Create();
        key.ImportFromEncryptedPem(File.ReadAllText(file), Passphrase);
        File.WriteAllText(
            file,
            key.ExportEncryptedPkcs8PrivateKeyPem(Passphrase, new(PbeEncryptionAlgorithm.Aes256Cbc, HashAlgorithmName.SHA256, 1_000))
        );
    }

    private void Create(string? published) =>
        Good(
            "ceremony",
            "create",
            Root,
            "--name",
            "CN=Thistledown Root, O=Thistledown Rail",
            "--key",
            "ec-p256",
            "--passphrase-fd",
            "3",
            "--crl-at",
            $"{published ?? Plain}/crl/root.crl",
            "--certificate-at",
            $"{published ?? Plain}/issuer/root.cer"
        );

    /// <summary>Starts the service and signs in.</summary>
    public async Task StartAsync(Dictionary<string, string>? more = null)
    {
        await Service.StartAsync(new(Waiting.Concat(more ?? [])));
        Good("sign-in", "--service", Service.Url, "--name", "robin", "--root", Service.RootPem, "--password-file", Scratch["password"]);
    }

    /// <summary>The request that waits is carried to the root, signed, and the answer brought back.</summary>
    public void SignAndInstall()
    {
        foreach (var old in Directory.EnumerateFiles(Carried, "issuing-request--*"))
            File.Delete(old);
        Good("authority", "request", "issuing");
        Good("ceremony", "sign", Root, Assert.Single(Directory.EnumerateFiles(Carried, "issuing-request--*.pem")), "--passphrase-fd", "3");
        Good("authority", "install", "issuing", Out("authority-certificate*"), Out("root-certificate*"));
    }

    /// <summary>All of it: root, service, first answer, the root's CRL.</summary>
    public async Task FoundAllAsync()
    {
        Found();
        await StartAsync();
        SignAndInstall();
        Good("authority", "publish-crl", Out("root-crl*"));
    }

    /// <summary>Enrols an edition.</summary>
    /// <returns>Its PEM, its name, and the file that a server would send: leaf and what is above it, without a root.</returns>
    public (string Leaf, string Chain, string Name, X509 Edition) Enrol()
    {
        var name = $"r{Guid.NewGuid().ToString("N")[..10]}.thistledown.example";
        using var s = new Scratch();
        var (status, body) = EstTests.Enrol(Service, s, EstTests.Make(s, "DNS:" + name).Csr);
        Assert.True(status == "200", body + Service.Errors);
        var leaf = Scratch.File(name + ".pem", File.ReadAllText(EstTests.Leaf(s, body)));
        var chain = Scratch[name + ".chain.pem"];
        Good("cert", "export", $"{name}@robin", "--form", "chain", "--out", chain);
        return (leaf, chain, $"{name}@robin", X509.Read(Core.Formats.Pkcs7.ReadCertificates(Convert.FromBase64String(body))[0]));
    }

    public byte[] Fetch(string uri)
    {
        using var s = new Scratch();
        var (code, _, error) = Programs.Run("curl", ["-sSf", "-o", s["file"], uri]);
        Assert.True(code == 0, uri + error);
        return File.ReadAllBytes(s["file"]);
    }

    public ValueTask DisposeAsync() => Service.DisposeAsync();
}
