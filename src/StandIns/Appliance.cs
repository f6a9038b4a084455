using System.Net;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace OrderlyBeacon.StandIns;

/// <summary>
/// A firewall appliance: an HTTP API for its keeper, and a front where users come to it by TLS. What is changed is a candidate until it is committed. It makes its own keys;
/// it takes an answer only when the root above it is among its anchors already, as such devices do.
/// </summary>
internal static class Appliance
{
    private sealed record Wish(string? Subject, IReadOnlyList<string>? Names, string? Key);

    private sealed record Anchor(string? Certificate);

    private sealed record Answer(string? Chain);

    public static async Task RunAsync(string folder, string api, string front, CancellationToken ct)
    {
        Directory.CreateDirectory(folder);
        var state = new ApplianceState(folder);
        var token = TokenOf(folder);
        using var factory = FactoryCertificate(folder);
        var builder = ProgramFolder.Builder();
        builder.Logging.ClearProviders();
        builder.WebHost.UseKestrelHttpsConfiguration();
        builder.WebHost.ConfigureKestrel(k =>
        {
            k.Listen(IPEndPoint.Parse(api), l => l.UseHttps(factory));
            k.Listen(IPEndPoint.Parse(front), l => l.UseHttps(h => h.ServerCertificateSelector = (_, _) => Served(state) ?? factory));
        });
        await using var app = builder.Build();
        app.Use(
            async (context, next) =>
            {
                if (context.Request.Path.StartsWithSegments("/appliance") && context.Request.Headers.Authorization != $"Bearer {token}")
                {
                    context.Response.StatusCode = StatusCodes.Status401Unauthorized;
                    await context.Response.WriteAsync("a keeper's token is needed");
                    return;
                }
                await next();
            }
        );
        app.MapGet("/", () => "Thistledown Rail, remote access");
        Map(app.MapGroup("/appliance/v1"), state, IPEndPoint.Parse(front));
        await app.RunAsync(ct);
    }

    private static void Map(RouteGroupBuilder g, ApplianceState state, IPEndPoint front)
    {
        g.MapGet(
            "/state",
            () =>
            {
                var now = state.Read();
                return Results.Json(
                    new
                    {
                        model = "stand-in appliance",
                        candidate = now.Candidate,
                        running = now.Running,
                        front = new { address = front.Address.ToString(), port = front.Port },
                    }
                );
            }
        );
        g.MapGet("/anchors", () => Results.Json(new { anchors = state.Read().Candidate.Anchors }));
        g.MapPost("/anchors", (Anchor body) => Change(state, c => AddAnchor(c, body.Certificate)));
        // By the label it was made with, or by a name or address that it asks for.
        g.MapGet(
            "/requests/{which}",
            (string which) =>
                state.Read().Requests.FirstOrDefault(r => r.Key == which || r.Value.Names.Contains(which)).Value is { } found
                    ? Results.Json(new { csr = found.CsrPem })
                    : Results.Text($"there is no request {which}", statusCode: StatusCodes.Status404NotFound)
        );
        g.MapPut("/requests/{label}", (string label, Wish body) => Change(state, c => Request(c, label, body)));
        g.MapPut("/requests/{label}/answer", (string label, Answer body) => Change(state, c => Take(c, label, body.Chain)));
        g.MapPost(
            "/commit",
            () =>
                Change(
                    state,
                    c =>
                        (
                            c with
                            {
                                Running = c.Candidate with { Revision = c.Running.Revision + 1 },
                                Candidate = c.Candidate with { Revision = c.Running.Revision + 1 },
                            },
                            Results.Json(new { })
                        )
                )
        );
        g.MapPost("/revert", () => Change(state, c => (c with { Candidate = c.Running }, Results.Json(new { }))));
    }

    /// <summary>One change at a time; what is refused changes nothing.</summary>
    private static IResult Change(ApplianceState state, Func<ApplianceContent, (ApplianceContent After, IResult Told)> change)
    {
        lock (state.Gate)
            try
            {
                var before = state.Read();
                var (after, told) = change(before);
                if (!ReferenceEquals(after, before))
                    state.Write(after);
                return told;
            }
            catch (Exception e) when (e is CryptographicException or ArgumentException or FormatException)
            {
                return Results.Text(e.Message, statusCode: StatusCodes.Status400BadRequest);
            }
    }

    private static (ApplianceContent, IResult) AddAnchor(ApplianceContent now, string? pem)
    {
        using var read = X509Certificate2.CreateFromPem(pem ?? "");
        var anchors = now.Candidate.Anchors.Append(pem!.Trim()).Distinct().ToList();
        return (now with { Candidate = now.Candidate with { Anchors = anchors } }, Results.Json(new { }));
    }

    private static (ApplianceContent, IResult) Request(ApplianceContent now, string label, Wish wish)
    {
        if (now.Requests.TryGetValue(label, out var made))
            return (now, Results.Json(new { csr = made.CsrPem }));
        using AsymmetricAlgorithm key =
            wish.Key?.StartsWith("rsa", StringComparison.Ordinal) == true
                ? RSA.Create(int.Parse(wish.Key[4..]))
                : ECDsa.Create(wish.Key == "ec-p384" ? ECCurve.NamedCurves.nistP384 : ECCurve.NamedCurves.nistP256);
        var subject = new X500DistinguishedName(wish.Subject ?? "");
        var request = key is RSA rsa
            ? new CertificateRequest(subject, rsa, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1)
            : new CertificateRequest(subject, (ECDsa)key, HashAlgorithmName.SHA256);
        var names = new SubjectAlternativeNameBuilder();
        foreach (var name in wish.Names ?? [])
            if (name.StartsWith("ip:", StringComparison.Ordinal))
                names.AddIpAddress(IPAddress.Parse(name[3..]));
            else
                names.AddDnsName(name);
        request.CertificateExtensions.Add(names.Build());
        var csr = request.CreateSigningRequestPem();
        var requests = new Dictionary<string, ApplianceRequest>(now.Requests)
        {
            [label] = new(wish.Subject ?? "", wish.Names ?? [], key.ExportPkcs8PrivateKeyPem(), csr),
        };
        return (now with { Requests = requests }, Results.Json(new { csr }));
    }

    private static (ApplianceContent, IResult) Take(ApplianceContent now, string label, string? chain)
    {
        if (!now.Requests.TryGetValue(label, out var request))
            return (now, Results.Text($"there is no request {label}", statusCode: StatusCodes.Status404NotFound));
        var certificates = new X509Certificate2Collection();
        certificates.ImportFromPem(chain ?? "");
        if (certificates.Count == 0)
            throw new ArgumentException("there is no certificate in the answer");
        using var key = KeyOf(request.KeyPem);
        if (!certificates[0].PublicKey.ExportSubjectPublicKeyInfo().AsSpan().SequenceEqual(key.ExportSubjectPublicKeyInfo()))
            throw new ArgumentException("the answer is for another key");
        using var judge = new X509Chain
        {
            ChainPolicy =
            {
                TrustMode = X509ChainTrustMode.CustomRootTrust,
                RevocationMode = X509RevocationMode.NoCheck,
                DisableCertificateDownloads = true,
            },
        };
        foreach (var anchor in now.Candidate.Anchors)
            judge.ChainPolicy.CustomTrustStore.ImportFromPem(anchor);
        judge.ChainPolicy.ExtraStore.AddRange(certificates);
        if (!judge.Build(certificates[0]))
            return (now, Results.Text("the root above the answer is not among the anchors", statusCode: StatusCodes.Status409Conflict));
        return (now with { Candidate = now.Candidate with { ServedLabel = label, ServedChain = chain } }, Results.Json(new { }));
    }

    private static AsymmetricAlgorithm KeyOf(string pem)
    {
        try
        {
            var ec = ECDsa.Create();
            ec.ImportFromPem(pem);
            return ec;
        }
        catch (CryptographicException)
        {
            var rsa = RSA.Create();
            rsa.ImportFromPem(pem);
            return rsa;
        }
    }

    /// <summary>What its front shows: the running configuration's certificate.</summary>
    private static X509Certificate2? Served(ApplianceState state)
    {
        var now = state.Read();
        if (now.Running is not { ServedLabel: { } label, ServedChain: { } chain })
            return null;
        using var leaf = X509Certificate2.CreateFromPem(chain, now.Requests[label].KeyPem);
        return X509CertificateLoader.LoadPkcs12(leaf.Export(X509ContentType.Pkcs12), null);
    }

    private static string TokenOf(string folder)
    {
        var path = Path.Combine(folder, "token");
        if (!File.Exists(path))
        {
            File.WriteAllText(path, Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(16)));
            File.SetUnixFileMode(path, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        }
        return File.ReadAllText(path).Trim();
    }

    /// <summary>What it came with: self-signed, and known by its fingerprint alone (<c>fingerprint</c> beside it, as on a label).</summary>
    private static X509Certificate2 FactoryCertificate(string folder)
    {
        var path = Path.Combine(folder, "factory.p12");
        if (!File.Exists(path))
        {
            using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
            var request = new CertificateRequest("CN=stand-in appliance", key, HashAlgorithmName.SHA256);
            using var made = request.CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-1), DateTimeOffset.UtcNow.AddYears(10));
            File.WriteAllBytes(path, made.Export(X509ContentType.Pkcs12));
            File.SetUnixFileMode(path, UnixFileMode.UserRead | UnixFileMode.UserWrite);
            File.WriteAllText(Path.Combine(folder, "fingerprint"), Convert.ToHexStringLower(SHA256.HashData(made.RawData)));
        }
        return X509CertificateLoader.LoadPkcs12FromFile(path, null);
    }
}
