using System.Formats.Asn1;
using System.Net;
using System.Text;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Issuing;

/// <summary>One subtree of a name constraint (GeneralSubtree, RFC 5280 section 4.2.1.10).</summary>
/// <param name="Kind">The form of names that it bounds.</param>
/// <param name="Text">As people write it: a zone, <c>10.0.0.0/8</c>, a mailbox or its host, a directory name.</param>
public sealed record Subtree(NameKind Kind, string Text)
{
    private byte[] Address { get; init; } = [];
    private byte[] Mask { get; init; } = [];
    private DistinguishedName? Directory { get; init; }

    /// <summary>Its tag, for forms that cannot be judged.</summary>
    private int Tag { get; init; } = -1;

    /// <summary>From a zone or a network in prefix form.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NameMalformed"/>.</exception>
    public static Subtree Parse(string text)
    {
        var t = text.Trim();
        if (t.Contains('/') || IPAddress.TryParse(t, out _))
        {
            var network = Network.Parse(t);
            return OfAddress(network.Bytes, network.Mask);
        }
        return DnsName.Parse(t.TrimStart('.')) is { IsWildcard: false } name
            ? new(NameKind.Dns, name.Ascii)
            : throw new BeaconProblem(
                ProblemCode.NameMalformed,
                $"\"{text}\" has a star.",
                "Give the zone itself: everything below it is meant."
            );
    }

    /// <summary>A directory name and everything below it.</summary>
    public static Subtree Of(DistinguishedName root) => new(NameKind.Directory, root.ToString()) { Directory = root };

    private static Subtree OfAddress(byte[] address, byte[] mask)
    {
        var ones = mask.Sum(b => System.Numerics.BitOperations.PopCount(b));
        var isPrefix = Network.MaskOf(ones, mask.Length).AsSpan().SequenceEqual(mask);
        return new(NameKind.Ip, $"{new IPAddress(address)}/{(isPrefix ? ones : Convert.ToHexStringLower(mask))}")
        {
            Address = address,
            Mask = mask,
        };
    }

    /// <summary>Whether the whole of what a name stands for lies in the subtree. A wildcard stands for all names with one more label.</summary>
    public bool Holds(AlternativeName name) =>
        Kind == name.Kind
        && Kind switch
        {
            NameKind.Dns => InZone(name.Value.StartsWith("*.", StringComparison.Ordinal) ? "x" + name.Value[1..] : name.Value, Text),
            NameKind.Ip => HoldsAddress(name.Value),
            NameKind.Email => HoldsMailbox(name.Value),
            NameKind.Uri => HoldsUri(name.Value),
            NameKind.Directory => Directory is not null && name.Directory is { } d && d.IsBelow(Directory),
            _ => false,
        };

    /// <summary>Whether something of what a name stands for lies in the subtree: what an exclusion asks. What cannot be judged is held to.</summary>
    public bool Touches(AlternativeName name)
    {
        if (Kind != name.Kind)
            return false;
        if (Kind == NameKind.Other)
            return true;
        if (Kind == NameKind.Dns && name.Value.StartsWith("*.", StringComparison.Ordinal))
        {
            // One label below: either all of them lie in the subtree, or the subtree begins at one of them.
            var below = name.Value[2..];
            var zone = Text.TrimStart('.');
            var oneLabel = zone.IndexOf('.') is > 0 and var dot && zone[(dot + 1)..].Equals(below, StringComparison.OrdinalIgnoreCase);
            return InZone("x." + below, Text) || oneLabel;
        }
        return Holds(name);
    }

    /// <summary>With a dot in front only names below are meant; without one the zone itself too. An empty one is everything.</summary>
    private static bool InZone(string name, string zone) =>
        zone.Length == 0
        || (
            zone[0] == '.'
                ? name.EndsWith(zone, StringComparison.OrdinalIgnoreCase) && name.Length > zone.Length
                : name.Equals(zone, StringComparison.OrdinalIgnoreCase) || name.EndsWith("." + zone, StringComparison.OrdinalIgnoreCase)
        );

    private bool HoldsAddress(string text)
    {
        if (!IPAddress.TryParse(text, out var ip) || ip.GetAddressBytes() is not { } bytes || bytes.Length != Address.Length)
            return false;
        for (var i = 0; i < bytes.Length; i++)
            if ((bytes[i] & Mask[i]) != (Address[i] & Mask[i]))
                return false;
        return true;
    }

    /// <summary>A mailbox, all mailboxes at a host, or at the hosts of a zone (with a dot in front).</summary>
    private bool HoldsMailbox(string mailbox)
    {
        var at = mailbox.LastIndexOf('@');
        var host = mailbox[(at + 1)..];
        if (Text.Contains('@'))
            return mailbox[..Math.Max(at, 0)] == Text[..Text.LastIndexOf('@')] && SameHost(Text[(Text.LastIndexOf('@') + 1)..], host);
        return Text.StartsWith('.') ? host.EndsWith(Text, StringComparison.OrdinalIgnoreCase) : SameHost(Text, host);
    }

    /// <summary>The host of an address; one that is no name is in no subtree.</summary>
    private bool HoldsUri(string uri)
    {
        if (!Uri.TryCreate(uri, UriKind.Absolute, out var u) || u.HostNameType != UriHostNameType.Dns)
            return false;
        return Text.StartsWith('.') ? u.Host.EndsWith(Text, StringComparison.OrdinalIgnoreCase) : SameHost(Text, u.Host);
    }

    private static bool SameHost(string one, string other) => one.Equals(other, StringComparison.OrdinalIgnoreCase);

    internal void Write(AsnWriter w)
    {
        using var _ = w.PushSequence();
        var tag = new Asn1Tag(TagClass.ContextSpecific, Kind == NameKind.Other ? Tag : TagOf(Kind));
        if (Kind == NameKind.Ip)
            w.WriteOctetString([.. Address, .. Mask], tag);
        else if (Kind == NameKind.Directory)
            using (w.PushSequence(tag))
                w.WriteEncodedValue(Directory!.Der.Span);
        else
            w.WriteCharacterString(UniversalTagNumber.IA5String, Text, tag);
    }

    private static int TagOf(NameKind kind) =>
        kind switch
        {
            NameKind.Email => 1,
            NameKind.Dns => 2,
            NameKind.Directory => 4,
            NameKind.Uri => 6,
            _ => 7,
        };

    /// <exception cref="AsnContentException">It is not a GeneralSubtree, or has a minimum or maximum, which RFC 5280 does not allow.</exception>
    internal static Subtree Read(AsnReader subtree)
    {
        var tag = subtree.PeekTag();
        var plain = new Asn1Tag(TagClass.ContextSpecific, tag.TagValue);
        var read = tag.TagValue switch
        {
            1 => new(NameKind.Email, Text(NameKind.Email)),
            2 => new(NameKind.Dns, Text(NameKind.Dns)),
            4 => Of(DistinguishedName.Read(subtree.ReadSequence(new Asn1Tag(TagClass.ContextSpecific, 4, true)).ReadEncodedValue())),
            6 => new(NameKind.Uri, Text(NameKind.Uri)),
            7 => ReadAddress(subtree.ReadOctetString(plain)),
            _ => Unknown(),
        };
        return subtree.HasData ? throw new AsnContentException("A subtree with a minimum or maximum.") : read;

        string Text(NameKind _) => Encoding.Latin1.GetString(subtree.ReadOctetString(plain));

        Subtree Unknown()
        {
            subtree.ReadEncodedValue();
            return new(NameKind.Other, $"names of the form {tag.TagValue}") { Tag = tag.TagValue };
        }
    }

    private static Subtree ReadAddress(byte[] octets) =>
        octets.Length is 8 or 32
            ? OfAddress(octets[..(octets.Length / 2)], octets[(octets.Length / 2)..])
            : throw new AsnContentException($"An address subtree of {octets.Length} octets.");

    public override string ToString() => Text.Length == 0 ? "everything" : Text;
}
