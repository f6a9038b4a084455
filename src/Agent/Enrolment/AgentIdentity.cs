using System.Net.Http.Headers;
using System.Net.Security;
using System.Security.Authentication;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Renewal;
using OrderlyBeacon.Core.Requests;

namespace OrderlyBeacon.Agent.Enrolment;

/// <summary>
/// The agent's own certificate towards the service: enrolled by EST (RFC 7030) with a join code, renewed by EST with itself.
/// <c>identity/current</c> is a link to a folder with key and certificate, so that both change in one step.
/// </summary>
internal sealed class AgentIdentity(string state)
{
    private string Root => Path.Combine(state, "identity");
    private string Current => Path.Combine(Root, "current");
    public string AnchorsPath => Path.Combine(Root, "anchors.pem");

    public bool Exists => File.Exists(Path.Combine(Current, "key.pem"));

    public X509Certificate2 Load() =>
        X509Certificate2.CreateFromPemFile(Path.Combine(Current, "chain.pem"), Path.Combine(Current, "key.pem"));

    public X509Certificate2Collection Anchors()
    {
        var c = new X509Certificate2Collection();
        c.ImportFromPemFile(AnchorsPath);
        return c;
    }

    /// <summary>Thumbprints of the roots that are trusted for the service.</summary>
    public IReadOnlyList<string> AnchorThumbprints() =>
        [.. Armor.Read(File.ReadAllBytes(AnchorsPath)).Blocks.Select(b => X509.Read(b.Der).Thumbprint.Hex)];

    /// <summary>Asks the service, over a connection that is trusted already, which roots it has: a renewed one is trusted from then on (RFC 7030 section 4.1).</summary>
    /// <returns>Whether there were others than before.</returns>
    public async Task<bool> RefreshAnchorsAsync(Uri service, CancellationToken ct)
    {
        using var own = Load();
        using var http = Client(Anchors(), own, service);
        using var answer = await SendAsync(http, new(HttpMethod.Get, "/.well-known/est/agent/cacerts"), ct);
        if (!answer.IsSuccessStatusCode)
            return false;
        var told = ReadAll(await answer.Content.ReadAsStringAsync(ct));
        var have = Armor.Read(File.ReadAllBytes(AnchorsPath)).Blocks.Select(b => X509.Read(b.Der)).ToList();
        var roots = AnchorSuccession.Next(have, told, DateTimeOffset.UtcNow);
        if (roots.Select(r => r.Thumbprint.Hex).Order().SequenceEqual(have.Select(h => h.Thumbprint.Hex).Order()))
            return false;
        AtomicFiles.Write(
            AnchorsPath,
            Encoding.ASCII.GetBytes(string.Concat(roots.Select(r => Armor.Write(Armor.Certificate, r.Der.Span)))),
            isPrivate: false
        );
        return true;
    }

    private static List<X509> ReadAll(string body)
    {
        try
        {
            return [.. Pkcs7.ReadCertificates(Convert.FromBase64String(body)).Take(50).Select(X509.Read)];
        }
        catch (Exception e) when (e is FormatException or System.Formats.Asn1.AsnContentException)
        {
            throw new BeaconProblem(ProblemCode.DataDamaged, "The service's list of authorities cannot be read.", "It is tried again.", e);
        }
    }

    /// <summary>When the agent's certificate falls due for renewal.</summary>
    public DateTimeOffset Planned()
    {
        using var c = Load();
        return new RenewalPolicy().PlannedFor(c.NotBefore.ToUniversalTime(), c.NotAfter.ToUniversalTime(), c.SerialNumber);
    }

    /// <summary>Joins: finds out whom to trust by the fingerprint in the code, then enrols.</summary>
    public async Task JoinAsync(Uri service, string host, string code, CancellationToken ct)
    {
        var parts = code.Trim().Split('.');
        if (parts is not [{ Length: > 10 }, { Length: 64 } fingerprint])
            throw new BeaconProblem(
                ProblemCode.JoinCodeRefused,
                "This is not a whole join code.",
                "Copy it again, with the part after the dot: beacon host invite shows it."
            );
        var (pem, anchors) = await FetchAnchorsAsync(service, fingerprint, ct);
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        using var http = Client(anchors, null, service);
        var credentials = Convert.ToBase64String(Encoding.UTF8.GetBytes($"{host}:{code.Trim()}"));
        var leaf = await EnrolAsync(http, "simpleenroll", host, key, new AuthenticationHeaderValue("Basic", credentials), ct);
        AtomicFiles.Write(AnchorsPath, Encoding.ASCII.GetBytes(pem), isPrivate: false);
        Keep(key, leaf);
    }

    /// <summary>Joins by the computer's account: whom to trust is found out by the root's fingerprint, and no ticket is shown to anybody before.</summary>
    /// <param name="fingerprint">SHA-256 of the service's root, hexadecimal.</param>
    public async Task JoinByTicketAsync(Uri service, string host, string fingerprint, CancellationToken ct)
    {
        var (pem, anchors) = await FetchAnchorsAsync(service, fingerprint.Replace(":", "").ToLowerInvariant(), ct);
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        using var http = Client(anchors, null, service);
        using var ticket = new MachineTicket(service);
        var leaf = await EnrolAsync(http, "simpleenroll", host, key, ticket.Header(), ct);
        AtomicFiles.Write(AnchorsPath, Encoding.ASCII.GetBytes(pem), isPrivate: false);
        Keep(key, leaf);
    }

    public async Task RenewAsync(Uri service, string host, CancellationToken ct)
    {
        using var own = Load();
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        using var http = Client(Anchors(), own, service);
        Keep(key, await EnrolAsync(http, "simplereenroll", host, key, null, ct));
    }

    private void Keep(ECDsa key, byte[] leaf)
    {
        var name = X509.Read(leaf).Serial.Hex;
        var folder = Path.Combine(Root, name);
        AtomicFiles.Write(Path.Combine(folder, "key.pem"), Encoding.ASCII.GetBytes(key.ExportPkcs8PrivateKeyPem() + "\n"), isPrivate: true);
        AtomicFiles.Write(
            Path.Combine(folder, "chain.pem"),
            Encoding.ASCII.GetBytes(Armor.Write(Armor.Certificate, leaf)),
            isPrivate: false
        );
        AtomicFiles.Link(Current, name);
        foreach (var old in Directory.GetDirectories(Root).Where(d => Path.GetFileName(d) is var n && n != name && n != "current"))
            Directory.Delete(old, recursive: true);
    }

    private static async Task<byte[]> EnrolAsync(
        HttpClient http,
        string operation,
        string host,
        ECDsa key,
        AuthenticationHeaderValue? credentials,
        CancellationToken ct
    )
    {
        var signer = new KeySigner(key);
        var csr = CertificationRequest.Write(DistinguishedName.ForCommonName(host), [AlternativeName.Dns(DnsName.Parse(host))], signer);
        using var message = new HttpRequestMessage(HttpMethod.Post, $"/.well-known/est/agent/{operation}")
        {
            Content = new StringContent(Convert.ToBase64String(csr), Encoding.ASCII),
        };
        message.Content.Headers.ContentType = new("application/pkcs10");
        message.Headers.Authorization = credentials;
        using var answer = await SendAsync(http, message, ct);
        var body = await answer.Content.ReadAsStringAsync(ct);
        if (!answer.IsSuccessStatusCode)
            throw new BeaconProblem(
                ProblemCode.JoinCodeRefused,
                $"The service refused ({(int)answer.StatusCode}): {body.Trim()}",
                credentials?.Scheme == "Negotiate" ? "" : "Make a new join code: beacon host invite " + host + "."
            );
        var leaf = Pkcs7.ReadCertificates(Convert.FromBase64String(body))[0].ToArray();
        if (!X509.Read(leaf).PublicKey.Der.Span.SequenceEqual(key.ExportSubjectPublicKeyInfo()))
            throw new BeaconProblem(
                ProblemCode.DataDamaged,
                "The service answered with a certificate for another key.",
                "Try again; if it happens again, look into the service's log."
            );
        return leaf;
    }

    /// <summary>EST cacerts over a connection that is not trusted yet: the answer is, when it has the root with the fingerprint of the code (RFC 7030 section 4.1.1).</summary>
    private static async Task<(string Pem, X509Certificate2Collection)> FetchAnchorsAsync(
        Uri service,
        string fingerprint,
        CancellationToken ct
    )
    {
        using var handler = new SocketsHttpHandler
        {
            SslOptions =
            {
                RemoteCertificateValidationCallback = (_, _, _, _) => true,
                // Who it is, is not known yet: it has nothing fetched.
                CertificateChainPolicy = new() { DisableCertificateDownloads = true, RevocationMode = X509RevocationMode.NoCheck },
            },
        };
        using var http = new HttpClient(handler)
        {
            BaseAddress = service,
            Timeout = TimeSpan.FromSeconds(20),
            MaxResponseContentBufferSize = MostAnswer,
        };
        using var answer = await SendAsync(http, new(HttpMethod.Get, "/.well-known/est/agent/cacerts"), ct);
        if (!answer.IsSuccessStatusCode)
            throw new BeaconProblem(
                ProblemCode.Unreachable,
                $"{service} answered {(int)answer.StatusCode}.",
                "Check the address of the service."
            );
        var all = ReadAll(await answer.Content.ReadAsStringAsync(ct));
        var root =
            all.FirstOrDefault(x => x.Thumbprint.Hex == fingerprint.ToLowerInvariant() && x.IsSelfSigned)
            ?? throw new BeaconProblem(
                ProblemCode.JoinCodeRefused,
                $"{service} is not the service that made this code: its root has another fingerprint.",
                "Check the address; somebody may be in between."
            );
        var pem = Armor.Write(Armor.Certificate, root.Der.Span);
        var anchors = new X509Certificate2Collection();
        anchors.ImportFromPem(pem);
        return (pem, anchors);
    }

    private const int MostAnswer = 8 << 20;

    /// <summary>A client that trusts the given roots alone, and of what they certified only what has the service's mark: a certificate for its name is not enough.</summary>
    public static HttpClient Client(X509Certificate2Collection anchors, X509Certificate2? own, Uri service)
    {
        var policy = new X509ChainPolicy
        {
            TrustMode = X509ChainTrustMode.CustomRootTrust,
            RevocationMode = X509RevocationMode.NoCheck,
            DisableCertificateDownloads = true,
        };
        policy.CustomTrustStore.AddRange(anchors);
        var handler = new SocketsHttpHandler
        {
            PooledConnectionIdleTimeout = TimeSpan.FromMinutes(2),
            SslOptions = new SslClientAuthenticationOptions
            {
                CertificateChainPolicy = policy,
                RemoteCertificateValidationCallback = (_, certificate, _, errors) => IsTheService(certificate, errors),
            },
        };
        if (own is not null)
            handler.SslOptions.ClientCertificateContext = SslStreamCertificateContext.Create(own, null, offline: true);
        return new HttpClient(handler)
        {
            BaseAddress = service,
            Timeout = TimeSpan.FromSeconds(90),
            MaxResponseContentBufferSize = MostAnswer,
        };
    }

    /// <exception cref="AuthenticationException">The certificate is good for the name, but not the service's: worth other words than a wrong name.</exception>
    private static bool IsTheService(X509Certificate? certificate, SslPolicyErrors errors)
    {
        if (errors != SslPolicyErrors.None)
            return false;
        if (!ServiceMark.IsShown(certificate?.GetRawCertData(), isTrusted: true))
            throw new AuthenticationException(
                "what answers there is not the service: its certificate lacks the service's mark. Somebody else may answer at this address."
            );
        return true;
    }

    private static async Task<HttpResponseMessage> SendAsync(HttpClient http, HttpRequestMessage message, CancellationToken ct)
    {
        try
        {
            return await http.SendAsync(message, ct);
        }
        catch (HttpRequestException e)
        {
            throw new BeaconProblem(
                ProblemCode.Unreachable,
                $"{http.BaseAddress} cannot be reached: {(e.InnerException ?? e).Message}",
                "Check the address, the network, and that beacond runs.",
                e
            );
        }
    }
}
