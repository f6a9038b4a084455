using System.Net.Http.Headers;
using OrderlyBeacon.Core.Health;

namespace OrderlyBeacon.Service.Health;

/// <summary>Fetches what stands at an address as a client would: over plain HTTP, with bounds in time and size, following nothing.</summary>
public sealed class FetchPoint : IDisposable
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(6);

    private readonly Lazy<HttpClient> _http = new(() =>
        new(
            new SocketsHttpHandler
            {
                AllowAutoRedirect = false,
                UseProxy = false,
                UseCookies = false,
                ConnectTimeout = Patience,
                PooledConnectionIdleTimeout = TimeSpan.FromSeconds(5),
            }
        )
        {
            Timeout = Timeout.InfiniteTimeSpan,
        }
    );

    /// <param name="question">An OCSP request to post; null gets the file.</param>
    /// <param name="most">Reading is given up after this many bytes.</param>
    public async Task<Fetched> RunAsync(string uri, byte[]? question, long most, CancellationToken ct)
    {
        if (!Uri.TryCreate(uri, UriKind.Absolute, out var address) || address.Scheme is not ("http" or "https"))
            return Nothing("it is not an address of HTTP.", false);
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        limit.CancelAfter(Patience);
        try
        {
            return await GetAsync(address, question, most, limit);
        }
        catch (OperationCanceledException) when (!ct.IsCancellationRequested)
        {
            return Nothing("no answer in time.", true);
        }
        catch (HttpRequestException e)
        {
            return Nothing(
                e.HttpRequestError switch
                {
                    HttpRequestError.NameResolutionError => "its name is not known.",
                    HttpRequestError.ConnectionError => "the connection was refused.",
                    _ => e.Message,
                },
                false
            );
        }
        catch (IOException e)
        {
            return Nothing(e.Message, false);
        }

        static Fetched Nothing(string why, bool late) => new(null, null, null, default, why, late, null, null);
    }

    private async Task<Fetched> GetAsync(Uri address, byte[]? question, long most, CancellationTokenSource limit)
    {
        using var message = new HttpRequestMessage(question is null ? HttpMethod.Get : HttpMethod.Post, address);
        if (question is not null)
        {
            message.Content = new ByteArrayContent(question);
            message.Content.Headers.ContentType = new MediaTypeHeaderValue("application/ocsp-request");
        }
        using var answer = await _http.Value.SendAsync(message, HttpCompletionOption.ResponseHeadersRead, limit.Token);
        await using var stream = await answer.Content.ReadAsStreamAsync(limit.Token);
        using var kept = new MemoryStream();
        var buffer = new byte[16 << 10];
        int read;
        while ((read = await stream.ReadAsync(buffer, limit.Token)) > 0)
        {
            if (kept.Length + read > most)
                return new(null, null, null, default, null, false, most, null);
            kept.Write(buffer, 0, read);
            // A large list that keeps coming is no hanging server.
            limit.CancelAfter(Patience);
        }
        return new(
            (int)answer.StatusCode,
            answer.Content.Headers.ContentType?.ToString(),
            answer.Headers.Location?.ToString(),
            kept.ToArray(),
            null,
            false,
            null,
            answer.Headers.Date
        );
    }

    public void Dispose()
    {
        if (_http.IsValueCreated)
            _http.Value.Dispose();
    }
}
