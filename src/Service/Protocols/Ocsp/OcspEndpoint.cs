using System.Buffers;
using System.IO.Pipelines;
using Microsoft.AspNetCore.Http.Features;
using Microsoft.Extensions.Primitives;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;

namespace OrderlyBeacon.Service.Protocols.Ocsp;

/// <summary>OCSP over HTTP, GET and POST (RFC 6960 appendix A, RFC 5019 section 5). It stands before everything else, since nothing else is asked as often.</summary>
internal static class OcspEndpoint
{
    public const string Path = $"/ocsp/{Authority.IssuingSlug}";

    private const string RequestType = "application/ocsp-request",
        AnswerType = "application/ocsp-response";
    private static readonly StringValues Never = "no-store";

    public static void UseOcsp(this WebApplication app)
    {
        var desk = app.Services.GetRequiredService<OcspDesk>();
        app.Use(next =>
            context =>
            {
                var raw = context.Features.Get<IHttpRequestFeature>()!.RawTarget;
                return raw.StartsWith(Path, StringComparison.Ordinal) && (raw.Length == Path.Length || raw[Path.Length] is '/' or '?')
                    ? RunAsync(context, raw, desk)
                    : next(context);
            }
        );
    }

    private static Task RunAsync(HttpContext context, string raw, OcspDesk desk)
    {
        if (HttpMethods.IsPost(context.Request.Method))
            return PostAsync(context, desk);
        if (!HttpMethods.IsGet(context.Request.Method))
        {
            context.Response.Headers.Allow = "GET, POST";
            context.Response.StatusCode = 405;
            return Task.CompletedTask;
        }
        var text = raw.AsSpan(Math.Min(raw.Length, Path.Length + 1));
        if (desk.Ready(text) is { } ready)
            return Send(context, ready);
        var base64 = Uri.UnescapeDataString(text.ToString());
        var der = new byte[base64.Length];
        return Convert.TryFromBase64String(base64, der, out var length)
            ? Send(context, desk.Answer(der.AsMemory(0, length), text.ToString()))
            : Send(context, new(OcspResponse.Refuse(OcspRefusal.MalformedRequest), DateTimeOffset.UnixEpoch, null));
    }

    private static async Task PostAsync(HttpContext context, OcspDesk desk)
    {
        if (
            context.Request.ContentType is not { } type
            || !type.AsSpan().Trim().StartsWith(RequestType, StringComparison.OrdinalIgnoreCase)
        )
        {
            context.Response.StatusCode = 415;
            await context.Response.WriteAsync($"Send the request as {RequestType}.\n", context.RequestAborted);
            return;
        }
        try
        {
            await Send(context, await AnswerAsync(context, desk));
        }
        catch (BadHttpRequestException e)
        {
            // A body that never came whole is no error of the service, and nothing to be told at length: anybody can send one.
            context.Response.StatusCode = e.StatusCode;
        }
    }

    private static async ValueTask<OcspReply> AnswerAsync(HttpContext context, OcspDesk desk)
    {
        // The reader gives what came with the headers at once; the request's stream would ask once more for the end of a body that is there whole.
        var body = context.Request.BodyReader;
        ReadResult read;
        while (!(read = await body.ReadAsync(context.RequestAborted)).IsCompleted && read.Buffer.Length <= OcspRequest.MostBytes)
            body.AdvanceTo(read.Buffer.Start, read.Buffer.End);
        var reply = desk.Answer(
            read.Buffer.IsSingleSegment
                ? read.Buffer.First
                : read.Buffer.Slice(0, Math.Min(read.Buffer.Length, OcspRequest.MostBytes + 1)).ToArray(),
            null
        );
        body.AdvanceTo(read.Buffer.End);
        return reply;
    }

    private static Task Send(HttpContext context, OcspReply reply)
    {
        var h = context.Response.Headers;
        h.ContentType = AnswerType;
        h.ContentLength = reply.Der.Length;
        if (reply.Caching is { } c)
        {
            h.CacheControl = c.CacheControl;
            h.ETag = c.ETag;
            h.LastModified = c.LastModified;
            h.Expires = c.Expires;
        }
        else
            h.CacheControl = Never;
        // Not flushed: headers and body leave together when the response is complete.
        context.Response.BodyWriter.Write(reply.Der);
        return Task.CompletedTask;
    }
}
