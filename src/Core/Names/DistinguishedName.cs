using System.Formats.Asn1;
using System.Text;

namespace OrderlyBeacon.Core.Names;

/// <summary>One attribute of a subject, as <c>O=Thistledown Rail</c>.</summary>
/// <param name="Oid">The attribute type.</param>
/// <param name="Value">Its text, unescaped.</param>
public sealed record NameAttribute(string Oid, string Value);

/// <summary>
/// A subject or issuer name (RFC 5280 section 4.1.2.4): relative names in encoding order, each of one or more attributes.
/// Text form is RFC 4514 (last relative name first); any character may appear, quoted or escaped.
/// </summary>
public sealed class DistinguishedName
{
    private static readonly (string Oid, string Key)[] Keys =
    [
        (Oids.CommonName, "CN"),
        (Oids.Organization, "O"),
        (Oids.OrganizationalUnit, "OU"),
        (Oids.Locality, "L"),
        (Oids.State, "ST"),
        (Oids.Country, "C"),
        (Oids.Street, "STREET"),
        (Oids.SerialNumber, "SERIALNUMBER"),
        (Oids.DomainComponent, "DC"),
        (Oids.UserId, "UID"),
        (Oids.EmailAddress, "E"),
        (Oids.Title, "T"),
        (Oids.Surname, "SN"),
        (Oids.GivenName, "GN"),
    ];

    private readonly byte[] _der;

    private DistinguishedName(IReadOnlyList<IReadOnlyList<NameAttribute>> relative, byte[] der) => (Relative, _der) = (relative, der);

    public IReadOnlyList<IReadOnlyList<NameAttribute>> Relative { get; }

    /// <summary>The encoded Name, exactly as read or as we write it.</summary>
    public ReadOnlyMemory<byte> Der => _der;

    public bool IsEmpty => Relative.Count == 0;

    /// <summary>The most specific common name, or null.</summary>
    public string? CommonName => Relative.SelectMany(r => r).LastOrDefault(a => a.Oid == Oids.CommonName)?.Value;

    public static DistinguishedName Empty { get; } = Of([]);

    /// <summary>A name of single-attribute relative names, most general first.</summary>
    public static DistinguishedName Of(IEnumerable<NameAttribute> attributes) =>
        Build([.. attributes.Select(a => (IReadOnlyList<NameAttribute>)[a])]);

    public static DistinguishedName ForCommonName(string cn) => Of([new(Oids.CommonName, cn)]);

    private static DistinguishedName Build(IReadOnlyList<IReadOnlyList<NameAttribute>> relative)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
            foreach (var rdn in relative)
                using (w.PushSetOf())
                    foreach (var a in rdn)
                        using (w.PushSequence())
                        {
                            w.WriteObjectIdentifier(a.Oid);
                            w.WriteCharacterString(StringTypeOf(a), a.Value);
                        }
        return new(relative, w.Encode());
    }

    // RFC 5280 appendix A: country and serial number are PrintableString, DC and e-mail IA5String, the rest best UTF8String.
    private static UniversalTagNumber StringTypeOf(NameAttribute a) =>
        a.Oid switch
        {
            Oids.Country or Oids.SerialNumber => UniversalTagNumber.PrintableString,
            Oids.DomainComponent or Oids.EmailAddress => UniversalTagNumber.IA5String,
            _ => UniversalTagNumber.UTF8String,
        };

    /// <summary>Reads an encoded Name. Unknown attribute types are kept with their OID; unknown string forms as hex.</summary>
    /// <exception cref="AsnContentException">It is not a Name.</exception>
    public static DistinguishedName Read(ReadOnlyMemory<byte> der)
    {
        var relative = new List<IReadOnlyList<NameAttribute>>();
        var outer = new AsnReader(der, AsnEncodingRules.DER);
        var seq = outer.ReadSequence();
        outer.ThrowIfNotEmpty();
        while (seq.HasData)
        {
            var set = seq.ReadSetOf(skipSortOrderValidation: true);
            var rdn = new List<NameAttribute>();
            while (set.HasData)
            {
                var atv = set.ReadSequence();
                var oid = atv.ReadObjectIdentifier();
                if (rdn.Count + relative.Count > 200)
                    throw new AsnContentException("A name of over 200 attributes.");
                rdn.Add(new(oid, ReadText(atv.ReadEncodedValue())));
                atv.ThrowIfNotEmpty();
            }
            if (rdn.Count == 0)
                throw new AsnContentException("An empty relative name.");
            relative.Add(rdn);
        }
        return new(relative, der.ToArray());
    }

    private static string ReadText(ReadOnlyMemory<byte> value) => DirectoryText.Read(value) ?? "#" + Convert.ToHexString(value.Span);

    private string? _compared;

    /// <summary>
    /// One text for all names that are the same by RFC 5280 section 7.1: letters' case, blanks, the string's type and the order within a relative name do not matter.
    /// </summary>
    private string Compared => _compared ??= string.Join('\u0001', Relative.Select(ComparedOf));

    private static string ComparedOf(IReadOnlyList<NameAttribute> rdn) =>
        string.Join('\u0002', rdn.Select(a => a.Oid + "=" + DirectoryText.Compared(a.Value)).Order(StringComparer.Ordinal));

    /// <summary>Whether it is the same name (RFC 5280 section 7.1).</summary>
    public bool Matches(DistinguishedName other) => Der.Span.SequenceEqual(other.Der.Span) || Compared == other.Compared;

    /// <summary>Whether the first relative names of this one are those of the other: it lies in that subtree.</summary>
    public bool IsBelow(DistinguishedName root) =>
        root.Relative.Count <= Relative.Count && root.Relative.Zip(Relative).All(p => ComparedOf(p.First) == ComparedOf(p.Second));

    /// <summary>All values of one attribute.</summary>
    public IEnumerable<string> ValuesOf(string oid) => Relative.SelectMany(r => r).Where(a => a.Oid == oid).Select(a => a.Value);

    /// <summary>Reads RFC 4514 text, with quoted values (RFC 2253 section 4) and blanks around separators taken too.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.SubjectMalformed"/> with the position.</exception>
    public static DistinguishedName Parse(string text)
    {
        var relative = new List<IReadOnlyList<NameAttribute>>();
        var rdn = new List<NameAttribute>();
        var i = 0;
        if (text.Length > 4096)
            throw Bad("it is longer than 4096 characters");
        while (i < text.Length)
        {
            while (i < text.Length && text[i] == ' ')
                i++;
            if (i >= text.Length)
                throw Bad("a part is missing at the end");
            var eq = text.IndexOf('=', i);
            if (eq < 0)
                throw Bad($"there is no \"=\" after position {i + 1}");
            var oid = OidOf(text[i..eq].Trim()) ?? throw Bad($"\"{text[i..eq].Trim()}\" is not a known attribute");
            i = eq + 1;
            var value = ReadValue(text, ref i);
            Check(oid, value);
            rdn.Add(new(oid, value));
            var end = i >= text.Length;
            if (!end && text[i] is not (',' or '+' or ';'))
                throw Bad($"unexpected \"{text[i]}\" at position {i + 1}");
            if (end || text[i] != '+')
            {
                relative.Add(rdn);
                rdn = [];
            }
            if (!end && ++i >= text.Length)
                throw Bad("a part is missing at the end");
        }
        relative.Reverse();
        return Build(relative);
    }

    private static BeaconProblem Bad(string why) =>
        new(
            ProblemCode.SubjectMalformed,
            $"The subject cannot be read: {why}.",
            "Write it as CN=booking.thistledown.example,O=Thistledown Rail,C=GB; put values with commas in double quotes."
        );

    private static void Check(string oid, string value)
    {
        if (value.Length == 0)
            throw Bad($"{KeyOf(oid)} has no value");
        if (value.Length > 1024)
            throw Bad($"{KeyOf(oid)} is too long");
        if (HiddenText.In(value) is { } hidden)
            throw Bad($"{KeyOf(oid)} holds a control character or one that is not seen (U+{(int)hidden:X4})");
        if (!DirectoryText.IsWhole(value))
            throw Bad($"{KeyOf(oid)} holds half a character");
        if (oid == Oids.Country && !(value.Length == 2 && value.All(char.IsAsciiLetter)))
            throw Bad("C wants a two-letter country code");
        if (oid is Oids.DomainComponent or Oids.EmailAddress && !value.All(char.IsAscii))
            throw Bad($"{KeyOf(oid)} takes ASCII only");
        if (oid == Oids.SerialNumber && !value.All(c => char.IsAsciiLetterOrDigit(c) || " '()+,-./:=?".Contains(c)))
            throw Bad("SERIALNUMBER takes letters, digits and simple punctuation only");
        if (oid == Oids.CommonName && value.Length > 64)
            throw Bad("CN takes at most 64 characters (RFC 5280, ub-common-name)");
    }

    private static string ReadValue(string text, ref int i)
    {
        var value = new StringBuilder();
        var bytes = new List<byte>();
        while (i < text.Length && text[i] == ' ')
            i++;
        var quoted = i < text.Length && text[i] == '"';
        if (quoted)
            i++;
        var keep = 0;
        while (i < text.Length)
        {
            var c = text[i];
            if (quoted && c == '"')
                break;
            if (!quoted && c is ',' or '+' or ';' && !quoted)
                break;
            if (c == '\\' && i + 1 < text.Length)
            {
                if (i + 2 < text.Length && char.IsAsciiHexDigit(text[i + 1]) && char.IsAsciiHexDigit(text[i + 2]))
                {
                    bytes.Add(Convert.ToByte(text.Substring(i + 1, 2), 16));
                    i += 3;
                }
                else
                {
                    Flush();
                    value.Append(text[i + 1]);
                    i += 2;
                }
                Flush(onlyIfNoMoreHex: true);
                keep = value.Length;
                continue;
            }
            Flush();
            value.Append(c);
            i++;
        }
        Flush();
        if (quoted)
        {
            if (i >= text.Length)
                throw Bad("a double quote is not closed");
            i++;
            while (i < text.Length && text[i] == ' ')
                i++;
            return value.ToString();
        }
        while (value.Length > keep && value[^1] == ' ')
            value.Length--;
        return value.ToString();

        void Flush(bool onlyIfNoMoreHex = false)
        {
            if (onlyIfNoMoreHex || bytes.Count == 0)
                return;
            value.Append(Encoding.UTF8.GetString(bytes.ToArray()));
            bytes.Clear();
        }
    }

    private static string? OidOf(string key)
    {
        foreach (var (oid, k) in Keys)
            if (k.Equals(key, StringComparison.OrdinalIgnoreCase))
                return oid;
        if (key.Equals("S", StringComparison.OrdinalIgnoreCase))
            return Oids.State;
        if (key.StartsWith("OID.", StringComparison.OrdinalIgnoreCase))
            key = key[4..];
        var arcs = key.Split('.');
        return
            arcs.Length is > 1 and < 20
            && arcs.All(a => a.Length is > 0 and < 10 && a.All(char.IsAsciiDigit) && (a.Length == 1 || a[0] != '0'))
            && arcs[0] is "0" or "1" or "2"
            && int.Parse(arcs[1]) < 40
            ? key
            : null;
    }

    public static string KeyOf(string oid)
    {
        foreach (var (o, k) in Keys)
            if (o == oid)
                return k;
        return oid;
    }

    public override string ToString() =>
        string.Join(",", Relative.Reverse().Select(r => string.Join("+", r.Select(a => KeyOf(a.Oid) + "=" + Escape(a.Value)))));

    private static string Escape(string value)
    {
        var s = new StringBuilder();
        for (var i = 0; i < value.Length; i++)
        {
            var c = value[i];
            if (
                c is ',' or '+' or '"' or '\\' or '<' or '>' or ';'
                || (c == ' ' && (i == 0 || i == value.Length - 1))
                || (c == '#' && i == 0)
            )
                s.Append('\\').Append(c);
            else if (char.IsControl(c))
                s.Append('\\').Append(((int)c).ToString("X2"));
            else
                s.Append(c);
        }
        return s.ToString();
    }
}
