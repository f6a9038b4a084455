using System.Buffers.Binary;
using System.Security.Cryptography;
using System.Text;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Dane;

/// <summary>The secret that a name server and we share (RFC 8945); HMAC with SHA-256.</summary>
/// <param name="Name">As the server calls it.</param>
public sealed record UpdateKey(string Name, byte[] Secret);

/// <summary>One record to add, or to take away.</summary>
public sealed record RecordChange(string Owner, TlsaRecord Record, int Life, bool IsAdded);

/// <summary>
/// Changes in a zone by a message to its name server (RFC 2136), signed with a shared secret (RFC 8945). A record that is there is added again without effect, and one that is
/// gone is taken away without effect: the same message may be sent twice.
/// </summary>
public static class DnsUpdate
{
    private const int Update = 5 << 11,
        Response = 1 << 15,
        Soa = 6,
        In = 1,
        None = 254,
        Any = 255,
        Tsig = 250,
        HeaderBytes = 12,
        Fudge = 300,
        MostLabel = 63;
    private const string Algorithm = "hmac-sha256";

    /// <summary>A longer answer is not one to an update.</summary>
    public const int MostAnswer = 4096;

    /// <summary>A message that was signed, and what its answer is checked with.</summary>
    public sealed record Signed(byte[] Message, ushort Id, byte[] Mac);

    /// <param name="at">What the server's clock may differ from by five minutes.</param>
    public static Signed Write(ushort id, string zone, IReadOnlyList<RecordChange> changes, UpdateKey key, DateTimeOffset at)
    {
        var w = new Wire();
        w.Number16(id);
        w.Number16(Update);
        w.Number16(1);
        w.Number16(0);
        w.Number16(changes.Count);
        w.Number16(0);
        w.Name(zone);
        w.Number16(Soa);
        w.Number16(In);
        foreach (var c in changes)
        {
            w.Name(c.Owner);
            w.Number16(TlsaRecord.Type);
            w.Number16(c.IsAdded ? In : None);
            w.Number32(c.IsAdded ? (uint)c.Life : 0);
            w.Sized(c.Record.Encode());
        }
        var mac = HMACSHA256.HashData(key.Secret, (byte[])[.. w.ToArray(), .. Variables(key, at, 0, [])]);
        // One more record follows, which the signature does not cover.
        var message = w.ToArray();
        BinaryPrimitives.WriteUInt16BigEndian(message.AsSpan(10), 1);
        return new([.. message, .. TsigRecord(key, at, mac, id)], id, mac);
    }

    /// <summary>What is signed beside the message (RFC 8945, section 4.3.3).</summary>
    private static byte[] Variables(UpdateKey key, DateTimeOffset at, int error, ReadOnlySpan<byte> other)
    {
        var w = new Wire();
        w.Name(key.Name);
        w.Number16(Any);
        w.Number32(0);
        w.Name(Algorithm);
        Time(w, at.ToUnixTimeSeconds(), Fudge);
        w.Number16(error);
        w.Sized(other);
        return w.ToArray();
    }

    private static void Time(Wire w, long seconds, int fudge)
    {
        w.Number16((int)(seconds >> 32) & 0xFFFF);
        w.Number32((uint)seconds);
        w.Number16(fudge);
    }

    private static byte[] TsigRecord(UpdateKey key, DateTimeOffset at, byte[] mac, ushort id)
    {
        var data = new Wire();
        data.Name(Algorithm);
        Time(data, at.ToUnixTimeSeconds(), Fudge);
        data.Sized(mac);
        data.Number16(id);
        data.Number16(0);
        data.Number16(0);
        var w = new Wire();
        w.Name(key.Name);
        w.Number16(Tsig);
        w.Number16(Any);
        w.Number32(0);
        w.Sized(data.ToArray());
        return w.ToArray();
    }

    /// <summary>Reads what the server answers, and asks whether it is its answer to this message.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ZoneRefused"/> when the server refuses, or what came cannot be trusted.</exception>
    public static void ReadAnswer(ReadOnlySpan<byte> answer, Signed asked, UpdateKey key)
    {
        if (answer.Length is < HeaderBytes or > MostAnswer)
            throw NotOne();
        var flags = BinaryPrimitives.ReadUInt16BigEndian(answer[2..]);
        if (BinaryPrimitives.ReadUInt16BigEndian(answer) != asked.Id || (flags & Response) == 0 || (flags & 0x7800) != Update)
            throw NotOne();
        var code = flags & 0xF;
        // A refusal may come unsigned: it grants nothing. That it was done is believed with a signature alone.
        if (code != 0)
            throw Refused(code);
        ThrowUnlessSigned(answer, asked, key);
    }

    private static void ThrowUnlessSigned(ReadOnlySpan<byte> answer, Signed asked, UpdateKey key)
    {
        var r = new Reading(answer);
        r.Skip(4);
        var questions = r.Number16();
        var records = r.Number16() + r.Number16();
        var further = r.Number16();
        for (var i = 0; i < questions; i++)
        {
            r.Name();
            r.Skip(4);
        }
        for (var i = 0; i < records + further - 1; i++)
        {
            r.Name();
            r.Skip(8);
            r.Skip(r.Number16());
        }
        var at = r.At;
        if (further == 0 || !r.Name().Equals(key.Name.TrimEnd('.'), StringComparison.OrdinalIgnoreCase) || r.Number16() != Tsig)
            throw Unsigned();
        var (kind, life) = (r.Number16(), r.Number32());
        // It is the last record, and nothing follows it.
        var isLast = r.Number16() == answer.Length - r.At;
        var algorithm = r.Name();
        var (high, low, fudge) = (r.Number16(), r.Number32(), r.Number16());
        var mac = r.Take(r.Number16()).ToArray();
        var original = r.Number16();
        var error = r.Number16();
        var other = r.Take(r.Number16()).ToArray();
        if (
            !algorithm.Equals(Algorithm, StringComparison.OrdinalIgnoreCase)
            || error != 0
            || original != asked.Id
            || kind != Any
            || life != 0
            || !isLast
        )
            throw Unsigned();
        var message = answer[..at].ToArray();
        BinaryPrimitives.WriteUInt16BigEndian(message.AsSpan(10), (ushort)(further - 1));
        var w = new Wire();
        w.Sized(asked.Mac);
        w.Bytes(message);
        w.Name(key.Name);
        w.Number16(Any);
        w.Number32(0);
        w.Name(Algorithm);
        Time(w, ((long)high << 32) | low, fudge);
        w.Number16(error);
        w.Sized(other);
        if (!CryptographicOperations.FixedTimeEquals(HMACSHA256.HashData(key.Secret, w.ToArray()), mac))
            throw Unsigned();
    }

    private static BeaconProblem NotOne() =>
        new(
            ProblemCode.ZoneRefused,
            "What answers is no name server's answer to an update (RFC 2136).",
            "Look at the address in BEACON_DNSUPDATES."
        );

    private static BeaconProblem Unsigned() =>
        new(
            ProblemCode.ZoneRefused,
            "The name server's answer is not signed with the secret that we share.",
            "Look at the key's name and secret in BEACON_DNSUPDATES and at the server; somebody else may have answered."
        );

    private static BeaconProblem Refused(int code) =>
        new(
            ProblemCode.ZoneRefused,
            $"The name server refuses the change: {Word(code)}.",
            code is 5 or 9
                ? "Let this key change TLSA records of the zone: for knot, an acl with action: update and update-type: [TLSA]."
                : "Look into the name server's log."
        );

    private static string Word(int code) =>
        code switch
        {
            1 => "it does not understand the message",
            2 => "it failed (SERVFAIL)",
            4 => "it takes no updates (NOTIMP)",
            5 => "this key may not do that (REFUSED)",
            9 => "it is not the zone's server, or does not know the key or its clock differs (NOTAUTH)",
            10 => "a name lies outside of the zone (NOTZONE)",
            _ => $"code {code}",
        };

    private sealed class Wire
    {
        private readonly MemoryStream _to = new();

        public void Number16(int n)
        {
            Span<byte> b = stackalloc byte[2];
            BinaryPrimitives.WriteUInt16BigEndian(b, (ushort)n);
            _to.Write(b);
        }

        public void Number32(uint n)
        {
            Span<byte> b = stackalloc byte[4];
            BinaryPrimitives.WriteUInt32BigEndian(b, n);
            _to.Write(b);
        }

        public void Bytes(ReadOnlySpan<byte> bytes) => _to.Write(bytes);

        public void Sized(ReadOnlySpan<byte> bytes)
        {
            Number16(bytes.Length);
            _to.Write(bytes);
        }

        /// <summary>Labels with their lengths, in small letters (RFC 1035, section 3.1; RFC 8945, section 4.3.3).</summary>
        public void Name(string name)
        {
            foreach (var label in name.TrimEnd('.').ToLowerInvariant().Split('.'))
            {
                var bytes = Encoding.ASCII.GetBytes(label);
                if (bytes.Length is 0 or > MostLabel)
                    throw new BeaconProblem(ProblemCode.NameMalformed, $"\"{name}\" is no name in DNS.", "Look at it.");
                _to.WriteByte((byte)bytes.Length);
                _to.Write(bytes);
            }
            _to.WriteByte(0);
        }

        public byte[] ToArray() => _to.ToArray();
    }

    private ref struct Reading(ReadOnlySpan<byte> from)
    {
        private readonly ReadOnlySpan<byte> _from = from;

        public int At { get; private set; }

        public ReadOnlySpan<byte> Take(int count)
        {
            if (count > _from.Length - At)
                throw NotOne();
            var taken = _from.Slice(At, count);
            At += count;
            return taken;
        }

        public void Skip(int count) => Take(count);

        public int Number16() => BinaryPrimitives.ReadUInt16BigEndian(Take(2));

        public uint Number32() => BinaryPrimitives.ReadUInt32BigEndian(Take(4));

        /// <summary>A name; a pointer to an earlier one ends it (RFC 1035, section 4.1.4), and is followed back only.</summary>
        public string Name()
        {
            var name = new StringBuilder();
            var (at, after, before) = (At, -1, At);
            while (true)
            {
                if (at >= _from.Length)
                    throw NotOne();
                var length = _from[at++];
                if (length == 0)
                    break;
                if ((length & 0xC0) == 0xC0)
                {
                    if (at >= _from.Length)
                        throw NotOne();
                    var to = ((length & 0x3F) << 8) | _from[at++];
                    after = after < 0 ? at : after;
                    if (to >= before)
                        throw NotOne();
                    (at, before) = (to, to);
                    continue;
                }
                if (length > MostLabel || at + length > _from.Length || name.Length > 255)
                    throw NotOne();
                if (name.Length > 0)
                    name.Append('.');
                name.Append(Encoding.ASCII.GetString(_from.Slice(at, length)));
                at += length;
            }
            At = after < 0 ? at : after;
            return name.ToString();
        }
    }
}
