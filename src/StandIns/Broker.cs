using System.Diagnostics;
using System.Formats.Asn1;
using System.Net;
using System.Security.Cryptography;
using System.Security.Cryptography.Pkcs;
using System.Security.Cryptography.X509Certificates;

namespace OrderlyBeacon.StandIns;

/// <summary>The broker's file, and what it reads by it.</summary>
internal sealed class BrokerSettings
{
    private static readonly string[] Known = ["listen", "name", "keystore", "passphrase-file", "label", "pid-file", "log-file"];
    private readonly Dictionary<string, string> _values = [];

    /// <exception cref="FormatException">With file and line.</exception>
    public static BrokerSettings Read(string path)
    {
        var settings = new BrokerSettings();
        foreach (var (number, line) in File.ReadAllLines(path).Index())
        {
            if (line.Trim() is not { Length: > 0 } said || said[0] == '#')
                continue;
            var parts = said.Split('=', 2, StringSplitOptions.TrimEntries);
            if (parts.Length != 2 || !Known.Contains(parts[0]) || !settings._values.TryAdd(parts[0], parts[1]))
                throw new FormatException($"{path}, line {number + 1}: \"{said}\" is not understood");
        }
        if (!IPEndPoint.TryParse(settings["listen"] ?? "", out _))
            throw new FormatException($"{path}: listen is no address with a port");
        return settings;
    }

    public string? this[string name] => _values.GetValueOrDefault(name) is { Length: > 0 } v ? v : null;

    /// <summary>The entry that carries its label, with what goes along; null when it has no keystore.</summary>
    /// <exception cref="FormatException">It cannot be opened, or not exactly one entry carries the label.</exception>
    public (X509Certificate2 Own, X509Certificate2Collection Along)? Holder()
    {
        const string usual = "broker";
        if (this["keystore"] is not { } path)
            return null;
        var label = this["label"] ?? usual;
        try
        {
            var (bytes, passphrase) = (File.ReadAllBytes(path), File.ReadAllText(this["passphrase-file"] ?? "/dev/null").Trim());
            var all = X509CertificateLoader.LoadPkcs12Collection(bytes, passphrase);
            var holders = Labelled(bytes, passphrase, label).ToList();
            if (holders.Count != 1)
                throw new FormatException($"{holders.Count} entries of {path} carry the label \"{label}\"");
            var own = all.First(c => c.HasPrivateKey && c.Thumbprint == holders[0]);
            return (own, [.. all.Where(c => !c.HasPrivateKey)]);
        }
        catch (Exception e) when (e is CryptographicException or IOException or UnauthorizedAccessException or InvalidOperationException)
        {
            throw new FormatException($"{path} cannot be used: {e.Message}", e);
        }
    }

    private static IEnumerable<string> Labelled(byte[] keystore, string passphrase, string label)
    {
        const string friendlyName = "1.2.840.113549.1.9.20";
        foreach (var safe in Pkcs12Info.Decode(keystore, out _).AuthenticatedSafe)
        {
            if (safe.ConfidentialityMode == Pkcs12ConfidentialityMode.Password)
                safe.Decrypt(passphrase);
            foreach (var bag in safe.GetBags().OfType<Pkcs12CertBag>())
            foreach (var attribute in bag.Attributes)
                if (
                    attribute.Oid.Value == friendlyName
                    && AsnDecoder.ReadCharacterString(
                        attribute.Values[0].RawData,
                        AsnEncodingRules.BER,
                        UniversalTagNumber.BMPString,
                        out _
                    ) == label
                )
                    yield return bag.GetCertificate().Thumbprint;
        }
    }
}

/// <summary>
/// A desktop broker: a keeper and its gateway. The gateway takes the entry of the keystore that carries its label, at its start and never again; without a keystore it goes
/// without TLS.
/// </summary>
internal static class Broker
{
    private static readonly TimeSpan Pause = TimeSpan.FromMilliseconds(300);

    public static async Task<int> RunAsync(string config, bool isTest, CancellationToken ct)
    {
        try
        {
            var settings = BrokerSettings.Read(config);
            if (isTest)
                return 0;
            if (settings["pid-file"] is { } pidFile)
                await File.WriteAllTextAsync(pidFile, $"{Environment.ProcessId}\n", ct);
        }
        catch (Exception e) when (e is FormatException or IOException)
        {
            await Console.Error.WriteLineAsync(e.Message);
            return 1;
        }
        while (!ct.IsCancellationRequested)
        {
            using var gateway = Process.Start(
                new ProcessStartInfo(Environment.ProcessPath!, [.. Self(), "broker-gateway", "--config", config])
                {
                    RedirectStandardInput = true,
                }
            )!;
            try
            {
                await gateway.WaitForExitAsync(ct);
                await Task.Delay(Pause, ct);
            }
            catch (OperationCanceledException)
            {
                gateway.Kill();
            }
        }
        return 0;
    }

    // Run by dotnet, the program's own file comes first.
    private static string[] Self() => Path.GetFileName(Environment.ProcessPath) == "dotnet" ? [Environment.GetCommandLineArgs()[0]] : [];

    public static async Task<int> GatewayAsync(string config, CancellationToken ct)
    {
        var settings = BrokerSettings.Read(config);
        try
        {
            var holder = settings.Holder();
            var builder = ProgramFolder.Builder();
            builder.Logging.ClearProviders();
            builder.WebHost.UseKestrelHttpsConfiguration();
            builder.WebHost.ConfigureKestrel(k =>
                k.Listen(
                    IPEndPoint.Parse(settings["listen"]!),
                    l =>
                    {
                        if (holder is { } h)
                            l.UseHttps(o => (o.ServerCertificate, o.ServerCertificateChain) = (h.Own, h.Along));
                    }
                )
            );
            await using var app = builder.Build();
            app.MapGet("/", () => "Thistledown Rail, desktops");
            // Its keeper's end is its own.
            _ = Task.Run(
                async () =>
                {
                    await Console.In.ReadToEndAsync(ct);
                    Environment.Exit(0);
                },
                ct
            );
            await app.RunAsync(ct);
            return 0;
        }
        catch (Exception e) when (e is FormatException or IOException)
        {
            if (settings["log-file"] is { } log)
                await File.AppendAllTextAsync(log, $"gateway: {e.Message}\n", ct);
            return 1;
        }
    }
}
