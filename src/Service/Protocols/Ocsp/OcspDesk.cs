using Microsoft.Data.Sqlite;
using Microsoft.Extensions.Primitives;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Revocations;

namespace OrderlyBeacon.Service.Protocols.Ocsp;

/// <summary>An answer as it goes out.</summary>
/// <param name="Caching">Null when nobody may keep it.</param>
public sealed record OcspReply(byte[] Der, DateTimeOffset At, OcspCaching? Caching);

/// <summary>How long an answer may be kept, in the headers of RFC 5019 section 6.2, worked out once.</summary>
public sealed class OcspCaching(byte[] der, DateTimeOffset at, DateTimeOffset until)
{
    /// <summary>Here it is given again until half of its life.</summary>
    public DateTimeOffset GivenUntil { get; } = at + (until - at) / 2;

    /// <summary>A quarter of the answer's life: with the half it may lie here, it never outlives it in somebody's cache.</summary>
    public StringValues CacheControl { get; } = $"max-age={(until - at).TotalSeconds / 4:0}, public, no-transform, must-revalidate";
    public StringValues LastModified { get; } = at.UtcDateTime.ToString("R");
    public StringValues Expires { get; } = until.UtcDateTime.ToString("R");
    public StringValues ETag { get; } = $"\"{Convert.ToHexStringLower(System.Security.Cryptography.SHA256.HashData(der).AsSpan(0, 16))}\"";
}

/// <summary>
/// Answers questions about editions (RFC 6960). An answer without a nonce is kept and given again until it is half old, or until the edition's state changes:
/// a revocation shows at the very next question.
/// </summary>
public sealed class OcspDesk(
    ResponderCertificates responders,
    AuthorityRegistry registry,
    EditionStates states,
    BeaconOptions options,
    TimeProvider clock
) : IHearsOfRevocations
{
    private const int MostKept = 20_000;

    private readonly Dictionary<string, OcspReply> _ready = [];
    private readonly Dictionary<string, List<string>> _bySerial = [];
    private readonly ReaderWriterLockSlim _lock = new();
    private long _changes;

    /// <summary>An answer that is ready for a request, if there is one.</summary>
    /// <param name="text">The request as it stood in the address, or in base64.</param>
    public OcspReply? Ready(ReadOnlySpan<char> text)
    {
        _lock.EnterReadLock();
        try
        {
            return _ready.GetAlternateLookup<ReadOnlySpan<char>>().TryGetValue(text, out var r) && clock.GetUtcNow() < r.Caching!.GivenUntil
                ? r
                : null;
        }
        finally
        {
            _lock.ExitReadLock();
        }
    }

    /// <summary>The state of a serial has changed: what was said of it is forgotten. Called after the change is committed.</summary>
    public void Revoked(string serial)
    {
        states.Forget(serial);
        _lock.EnterWriteLock();
        try
        {
            _changes++;
            if (_bySerial.Remove(serial, out var keys))
                foreach (var k in keys)
                    _ready.Remove(k);
        }
        finally
        {
            _lock.ExitWriteLock();
        }
    }

    /// <summary>Answers, or refuses with the status the standard has for the reason.</summary>
    /// <param name="text">The request as it stood in the address: what the answer is kept under. Null when it came in a body.</param>
    public OcspReply Answer(ReadOnlyMemory<byte> der, string? text)
    {
        var now = clock.GetUtcNow();
        var second = new DateTimeOffset(now.UtcTicks - now.UtcTicks % TimeSpan.TicksPerSecond, TimeSpan.Zero);
        OcspRequest request;
        try
        {
            request = OcspRequest.Read(der);
        }
        catch (BeaconProblem)
        {
            return new(OcspResponse.Refuse(OcspRefusal.MalformedRequest), second, null);
        }
        var plain = request.Nonce is null && request.Questions.Count == 1;
        if (plain && (text is null ? Ready(text = Convert.ToBase64String(der.Span)) : null) is { } ready)
            return ready;
        if (!responders.Any)
            return new(OcspResponse.Refuse(OcspRefusal.TryLater), second, null);
        // Another issuer's certificates are not ours to speak of (RFC 5019 section 2.2.3); and one answer speaks for one issuer's key.
        var responder = responders.For(request.Questions[0]);
        foreach (var q in request.Questions)
            if (responder is null || !q.IsOf(responder.Issuer))
                return new(OcspResponse.Refuse(OcspRefusal.Unauthorized), second, null);
        if (responder!.Certificate.NotAfter < now)
            return new(OcspResponse.Refuse(OcspRefusal.TryLater), second, null);

        var changes = Interlocked.Read(ref _changes);
        var until = second + TimeSpan.FromHours(options.OcspHours);
        OcspAnswer[] answers;
        try
        {
            answers = [.. request.Questions.Select(q => Answer(q, responder.KeyNumber, second, until))];
        }
        catch (SqliteException)
        {
            return new(OcspResponse.Refuse(OcspRefusal.InternalError), second, null);
        }
        var signed = OcspResponse.Write(
            answers,
            second,
            request.Nonce is { } n ? n.Span : default,
            responder.KeyIdentifier,
            responder.Certificate.Der.Span,
            responder.Signer
        );
        var keep = plain && answers[0].Status != OcspStatus.Unknown;
        var reply = new OcspReply(signed, second, keep ? new(signed, second, until) : null);
        if (keep)
            Keep(text!, answers[0].Id.Serial.Hex, reply, changes);
        return reply;
    }

    /// <exception cref="SqliteException">The database cannot be read.</exception>
    private OcspAnswer Answer(OcspCertId question, int keyNumber, DateTimeOffset from, DateTimeOffset until)
    {
        var standing = states.Find(question.Serial);
        if (standing is null || registry.KeyOf(standing.GenerationId) != keyNumber)
            return new(question, OcspStatus.Unknown, null, from, until);
        return new(question, standing.Revocation is null ? OcspStatus.Good : OcspStatus.Revoked, standing.Revocation, from, until);
    }

    private void Keep(string key, string serial, OcspReply reply, long changes)
    {
        _lock.EnterWriteLock();
        try
        {
            // Something changed while the answer was made: it may be an old one.
            if (_changes != changes)
                return;
            if (_ready.Count >= MostKept)
            {
                _ready.Clear();
                _bySerial.Clear();
            }
            _ready[key] = reply;
            if (!_bySerial.TryGetValue(serial, out var keys))
                _bySerial[serial] = keys = [];
            if (!keys.Contains(key))
                keys.Add(key);
        }
        finally
        {
            _lock.ExitWriteLock();
        }
    }
}
