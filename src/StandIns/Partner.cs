using System.Net;
using System.Net.Sockets;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Security.Cryptography.Xml;
using System.Text;
using System.Xml;

namespace OrderlyBeacon.StandIns;

/// <summary>Where a partner learns what a provider signs with.</summary>
/// <param name="At">The address to go to; null for the one that the name has.</param>
/// <param name="Every">How often; zero: when somebody asks for it by hand.</param>
internal sealed record Source(Uri Metadata, string? At, TimeSpan Every);

/// <summary>
/// A partner of a federation (a SAML service provider): it keeps the certificates of the provider's metadata as it last fetched it, and lets in who comes with an assertion
/// that one of these has signed. What the assertion itself says of its signer counts nothing.
/// </summary>
internal sealed class Partner(IPEndPoint listen, Source source)
{
    private const string Metadata = "urn:oasis:names:tc:SAML:2.0:metadata",
        Assertion = "urn:oasis:names:tc:SAML:2.0:assertion";
    private IReadOnlyList<X509Certificate2> _known = [];
    private DateTimeOffset? _fetched;
    private int _welcome,
        _refused;

    public static async Task RunAsync(string listen, Source source, CancellationToken ct)
    {
        var partner = new Partner(IPEndPoint.Parse(listen), source);
        var builder = ProgramFolder.Builder();
        builder.Logging.ClearProviders();
        builder.WebHost.ConfigureKestrel(k => k.Listen(IPEndPoint.Parse(listen)));
        await using var app = builder.Build();
        partner.Map(app);
        await partner.TryFetchAsync(ct);
        _ = source.Every > TimeSpan.Zero ? partner.KeepFetchingAsync(ct) : Task.CompletedTask;
        await app.RunAsync(ct);
    }

    private void Map(WebApplication app)
    {
        app.MapGet(
            "/",
            () =>
                Results.Json(
                    new
                    {
                        knows = _known.Select(c => c.SerialNumber),
                        fetched = _fetched,
                        welcome = _welcome,
                        refused = _refused,
                    }
                )
        );
        app.MapPost("/refresh", async (CancellationToken ct) => await TryFetchAsync(ct) ? Results.Ok("fetched") : Results.StatusCode(502));
        app.MapPost(
            "/acs",
            async (HttpRequest request) =>
            {
                var form = await request.ReadFormAsync();
                if (WhoIs(form["SAMLResponse"].ToString()) is { } person)
                {
                    Interlocked.Increment(ref _welcome);
                    return Results.Text($"welcome {person}");
                }
                Interlocked.Increment(ref _refused);
                return Results.Text("refused: not signed by a certificate that is known here", statusCode: StatusCodes.Status403Forbidden);
            }
        );
    }

    private async Task KeepFetchingAsync(CancellationToken ct)
    {
        while (true)
        {
            await Task.Delay(source.Every, ct);
            await TryFetchAsync(ct);
        }
    }

    private async Task<bool> TryFetchAsync(CancellationToken ct)
    {
        try
        {
            using var http = new HttpClient(Handler()) { Timeout = TimeSpan.FromSeconds(10) };
            var xml = new XmlDocument { XmlResolver = null };
            xml.LoadXml(await http.GetStringAsync(source.Metadata, ct));
            _known = [.. Signing(xml)];
            _fetched = DateTimeOffset.UtcNow;
            return true;
        }
        catch (Exception e)
            when (e is HttpRequestException or XmlException or CryptographicException or FormatException or TaskCanceledException)
        {
            await Console.Error.WriteLineAsync($"the metadata cannot be had: {e.Message}");
            return false;
        }
    }

    private static IEnumerable<X509Certificate2> Signing(XmlDocument xml) =>
        xml.GetElementsByTagName("KeyDescriptor", Metadata)
            .OfType<XmlElement>()
            .Where(k => k.GetAttribute("use") is "" or "signing")
            .SelectMany(k => k.GetElementsByTagName("X509Certificate", SignedXml.XmlDsigNamespaceUrl).OfType<XmlElement>())
            .Select(c => X509CertificateLoader.LoadCertificate(Convert.FromBase64String(c.InnerText)));

    // It comes from its own address, as partners do. Who has fetched the metadata over the wire once pins what is in it: the demo's name has no public certificate.
    private SocketsHttpHandler Handler()
    {
        var handler = new SocketsHttpHandler();
        handler.SslOptions.RemoteCertificateValidationCallback = (_, _, _, _) => true;
        handler.ConnectCallback = async (context, ct) =>
        {
            var socket = new Socket(SocketType.Stream, ProtocolType.Tcp);
            socket.Bind(new IPEndPoint(listen.Address, 0));
            await socket.ConnectAsync(source.At ?? context.DnsEndPoint.Host, context.DnsEndPoint.Port, ct);
            return new NetworkStream(socket, ownsSocket: true);
        };
        return handler;
    }

    /// <summary>Null when nobody known has signed it, or it has lapsed.</summary>
    private string? WhoIs(string response)
    {
        try
        {
            var xml = new XmlDocument { PreserveWhitespace = true, XmlResolver = null };
            xml.LoadXml(Encoding.UTF8.GetString(Convert.FromBase64String(response)));
            if (xml.GetElementsByTagName("Assertion", Assertion) is not [XmlElement assertion])
                return null;
            var signature = assertion.ChildNodes.OfType<XmlElement>().FirstOrDefault(e => e.NamespaceURI == SignedXml.XmlDsigNamespaceUrl);
            if (signature is null || !_known.Any(c => IsSigned(assertion, signature, c)) || HasLapsed(assertion))
                return null;
            return assertion.GetElementsByTagName("AttributeValue", Assertion).OfType<XmlElement>().FirstOrDefault()?.InnerText;
        }
        catch (Exception e) when (e is XmlException or FormatException or CryptographicException)
        {
            return null;
        }
    }

    private static bool IsSigned(XmlElement assertion, XmlElement signature, X509Certificate2 by)
    {
        var signed = new Assertions(assertion);
        signed.LoadXml(signature);
        return signed.SignedInfo?.References is [Reference only]
            && only.Uri == "#" + assertion.GetAttribute("ID")
            && signed.CheckSignature(by, verifySignatureOnly: true);
    }

    private static bool HasLapsed(XmlElement assertion) =>
        assertion.GetElementsByTagName("Conditions", Assertion).OfType<XmlElement>().FirstOrDefault()?.GetAttribute("NotOnOrAfter")
            is { Length: > 0 } end
        && DateTimeOffset.Parse(end, System.Globalization.CultureInfo.InvariantCulture) <= DateTimeOffset.UtcNow;

    private sealed class Assertions : SignedXml
    {
        private readonly XmlElement _assertion;

        public Assertions(XmlElement assertion)
            : base(assertion) => _assertion = assertion;

        public override XmlElement? GetIdElement(XmlDocument? document, string idValue) =>
            _assertion.GetAttribute("ID") == idValue ? _assertion : null;
    }
}
