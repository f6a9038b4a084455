using System.Net;
using System.Net.Http.Headers;
using System.Net.Sockets;
using System.Xml;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Agent.Federation;

/// <summary>A provider's metadata (SAML 2.0 Metadata, section 2.4.1.1) as partners get it.</summary>
internal static class MetadataFile
{
    /// <summary>How the agent names itself there, so that its own fetches are not counted.</summary>
    public const string Agent = "orderly-beacon-agent";
    private const int MostBytes = 1 << 20,
        MostKeys = 50,
        MostCharacters = 1 << 20;
    private const string Metadata = "urn:oasis:names:tc:SAML:2.0:metadata",
        Signatures = "http://www.w3.org/2000/09/xmldsig#";
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);

    /// <summary>The certificates that it names for signatures.</summary>
    /// <param name="at">An address to go to instead of the one that the name has.</param>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.Unreachable"/>.</exception>
    public static async Task<IReadOnlyList<Thumbprint>> FetchAsync(Uri url, string? at, CancellationToken ct)
    {
        try
        {
            using var http = Client(at);
            using var request = new HttpRequestMessage(HttpMethod.Get, url);
            request.Headers.UserAgent.Add(new ProductInfoHeaderValue(Agent, null));
            using var answer = await http.SendAsync(request, ct);
            if (answer.StatusCode != HttpStatusCode.OK)
                throw NotRead(url, $"the server answers {(int)answer.StatusCode}");
            return Read(await answer.Content.ReadAsStringAsync(ct));
        }
        catch (Exception e)
            when (e is HttpRequestException or IOException or XmlException or FormatException
                || (e is OperationCanceledException && !ct.IsCancellationRequested)
            )
        {
            throw NotRead(url, e is OperationCanceledException ? "it does not answer in time" : e.Message.TrimEnd('.'));
        }
    }

    // What is published is what counts here; whether its TLS is good is what looks are for.
    private static HttpClient Client(string? at)
    {
        var handler = new SocketsHttpHandler { AllowAutoRedirect = false, ConnectTimeout = Patience };
        handler.SslOptions.RemoteCertificateValidationCallback = (_, _, _, _) => true;
        if (at is not null)
            handler.ConnectCallback = async (context, ct) =>
            {
                var socket = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
                await socket.ConnectAsync(at, context.DnsEndPoint.Port, ct);
                return new NetworkStream(socket, ownsSocket: true);
            };
        return new(handler) { Timeout = Patience, MaxResponseContentBufferSize = MostBytes };
    }

    /// <exception cref="XmlException">It is no metadata.</exception>
    /// <exception cref="FormatException">A certificate in it is no Base64.</exception>
    public static IReadOnlyList<Thumbprint> Read(string xml)
    {
        var found = new List<Thumbprint>();
        using var reader = XmlReader.Create(
            new StringReader(xml),
            new()
            {
                DtdProcessing = DtdProcessing.Prohibit,
                XmlResolver = null,
                MaxCharactersInDocument = MostCharacters,
                IgnoreComments = true,
            }
        );
        var isForSignatures = false;
        var isMetadata = false;
        while (reader.Read())
        {
            if (reader is { NodeType: XmlNodeType.Element, NamespaceURI: Metadata })
            {
                isMetadata = true;
                // Without a use, it is for both.
                if (reader.LocalName == "KeyDescriptor")
                    isForSignatures = reader.GetAttribute("use") is null or "signing";
            }
            else if (isForSignatures && reader is { NodeType: XmlNodeType.Element, LocalName: "X509Certificate", NamespaceURI: Signatures })
                found.Add(Thumbprint.Of(Convert.FromBase64String(reader.ReadElementContentAsString().Trim())));
            if (found.Count > MostKeys)
                throw new XmlException("it names too many certificates");
        }
        return isMetadata ? [.. found.Distinct()] : throw new XmlException("it is no metadata");
    }

    private static BeaconProblem NotRead(Uri url, string why) =>
        new(
            ProblemCode.Unreachable,
            $"The metadata at {url} cannot be read: {why}.",
            "Partners get it there: look at the web server before the provider, and at the provider's own log."
        );
}
