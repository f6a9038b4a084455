using CsCheck;
using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Tests;

public sealed class NameTests
{
    [Theory]
    [InlineData("booking.thistledown.example", "booking.thistledown.example")]
    [InlineData("  BOOKING.Thistledown.Example. ", "booking.thistledown.example")]
    [InlineData("*.stations.thistledown.example", "*.stations.thistledown.example")]
    [InlineData("bücher.example", "xn--bcher-kva.example")]
    [InlineData("BÜCHER.example", "xn--bcher-kva.example")]
    [InlineData("xn--bcher-kva.example", "xn--bcher-kva.example")]
    [InlineData("web01", "web01")]
    [InlineData("a-b.c-d", "a-b.c-d")]
    [InlineData("dns:web01.example", "web01.example")]
    [InlineData("127.0.0.1", "ip:127.0.0.1")]
    [InlineData("ip:10.1.2.3", "ip:10.1.2.3")]
    [InlineData("2001:DB8::0001", "ip:2001:db8::1")]
    [InlineData("[::1]", "ip:::1")]
    public void A_good_name_becomes_canonical(string text, string canonical) =>
        Assert.Equal(canonical, AlternativeName.Parse(text).ToString());

    [Theory]
    [InlineData("", NameFault.Empty)]
    [InlineData("   ", NameFault.Empty)]
    [InlineData("two words.example", NameFault.Blank)]
    [InlineData("foo_bar.example", NameFault.Underscore)]
    [InlineData("*", NameFault.BareWildcard)]
    [InlineData("*.*.x", NameFault.WildcardMisplaced)]
    [InlineData("w*.example.org", NameFault.WildcardMisplaced)]
    [InlineData("a.*.example", NameFault.WildcardMisplaced)]
    [InlineData("*.example", NameFault.WildcardTooWide)]
    [InlineData("10.0.0.0/8", NameFault.AddressWithMask)]
    [InlineData("2001:db8::/32", NameFault.AddressWithMask)]
    [InlineData("1.2.3", NameFault.BadAddress)]
    [InlineData("1.2.3.400", NameFault.BadAddress)]
    [InlineData("01.2.3.4", NameFault.BadAddress)]
    [InlineData("host.123", NameFault.LooksLikeAddress)]
    [InlineData("a..b", NameFault.EmptyLabel)]
    [InlineData(".a.b", NameFault.EmptyLabel)]
    [InlineData("-a.b", NameFault.HyphenAtEdge)]
    [InlineData("a-.b", NameFault.HyphenAtEdge)]
    [InlineData("https://a.example", NameFault.LooksLikeUrl)]
    [InlineData("a.example:443", NameFault.LooksLikeUrl)]
    [InlineData("a.example/path", NameFault.LooksLikeUrl)]
    [InlineData("a!b.example", NameFault.BadCharacter)]
    [InlineData("a\0b.example", NameFault.BadCharacter)]
    public void A_bad_name_has_its_fault_and_a_cure(string text, NameFault expected)
    {
        Assert.False(AlternativeName.TryParse(text, out _, out var fault));
        Assert.Equal(expected, fault);
        var problem = Assert.Throws<BeaconProblem>(() => AlternativeName.Parse(text));
        Assert.NotEmpty(problem.Cure);
        Assert.DoesNotContain('\0', problem.Message);
    }

    [Fact]
    public void Labels_and_names_have_their_longest()
    {
        var label = new string('a', 63);
        Assert.True(DnsName.TryParse(label + ".example", out _, out _));
        Assert.False(DnsName.TryParse(label + "a.example", out _, out var fault));
        Assert.Equal(NameFault.LabelTooLong, fault);
        Assert.False(DnsName.TryParse(string.Join('.', Enumerable.Repeat(label, 4)), out _, out fault));
        Assert.Equal(NameFault.TooLong, fault);
    }

    [Fact]
    public void Parsing_is_idempotent_and_never_throws_anything_else() =>
        Gen.String.Sample(
            text =>
            {
                if (!AlternativeName.TryParse(text, out var name, out var fault))
                    return fault != NameFault.None;
                return AlternativeName.TryParse(name!.ToString(), out var again, out _) && again == name;
            },
            iter: 20_000
        );

    // Clients: RFC 9525 section 6.
    [Theory]
    [InlineData("a.example", "a.example", true)]
    [InlineData("A.EXAMPLE", "a.example", true)]
    [InlineData("a.b.example", "*.b.example", true)]
    [InlineData("b.example", "*.b.example", false)]
    [InlineData("x.a.b.example", "*.b.example", false)]
    [InlineData("a.example", "b.example", false)]
    public void A_pattern_stands_for_one_label(string asked, string pattern, bool fits) =>
        Assert.Equal(fits, HostNameMatch.DnsFits(asked, pattern));

    [Theory]
    [InlineData("CN=booking.thistledown.example,O=Thistledown Rail,C=GB", "CN=booking.thistledown.example,O=Thistledown Rail,C=GB")]
    [InlineData("CN = a , O = \"Rail, Thistledown \" ", "CN=a,O=Rail\\, Thistledown\\ ")]
    [InlineData("O=A\\, B\\+C\\\"", "O=A\\, B\\+C\\\"")]
    [InlineData("CN=caf\\C3\\A9", "CN=café")]
    [InlineData("CN=a+UID=b,O=c", "CN=a+UID=b,O=c")]
    [InlineData("O=\\ leading", "O=\\ leading")]
    [InlineData("2.5.4.17=AB1 2CD", "2.5.4.17=AB1 2CD")]
    public void A_subject_survives_text_and_encoding(string text, string canonical)
    {
        var name = DistinguishedName.Parse(text);
        Assert.Equal(canonical, name.ToString());
        Assert.Equal(canonical, DistinguishedName.Read(name.Der).ToString());
        Assert.Equal(name.Der.ToArray(), DistinguishedName.Parse(name.ToString()).Der.ToArray());
    }

    [Theory]
    [InlineData("CN")]
    [InlineData("CN=a,")]
    [InlineData("XX=a")]
    [InlineData("CN=")]
    [InlineData("C=GBR")]
    [InlineData("O=\"open")]
    [InlineData("CN=a\u0001")]
    [InlineData("O=Thistle\u200Bdown Rail")]
    [InlineData("O=liaR \u202Enwodeltsiht")]
    [InlineData("OU=\uFEFFa")]
    [InlineData("DC=é")]
    public void A_bad_subject_is_told(string text) =>
        Assert.Equal(ProblemCode.SubjectMalformed, Assert.Throws<BeaconProblem>(() => DistinguishedName.Parse(text)).Code);

    [Fact]
    public void Any_value_can_be_a_subject() =>
        Gen
            .String.Where(s => s.Trim().Length is > 0 and < 60 && !s.Any(char.IsControl) && !s.Any(char.IsSurrogate))
            .Sample(
                value =>
                {
                    var name = DistinguishedName.Of([new NameAttribute(Oids.Organization, value)]);
                    return DistinguishedName.Parse(name.ToString()).Relative[0][0].Value == value;
                },
                iter: 5_000
            );

    [Theory]
    [InlineData("0a:ff", "0AFF")]
    [InlineData("00FF", "FF")]
    [InlineData("f", "0F")]
    public void Serials_are_read_as_people_write_them(string text, string hex)
    {
        Assert.True(SerialNumber.TryParse(text, out var serial));
        Assert.Equal(hex, serial.Hex);
    }

    [Fact]
    public void New_serials_are_positive_and_of_sixteen_octets() =>
        Gen
            .Byte.Array[16]
            .Sample(b =>
            {
                var s = SerialNumber.FromRandom(b);
                return s.ToBytes() is { Length: 16 } bytes && bytes[0] is > 0 and < 0x80 && SerialNumber.FromBytes(bytes) == s;
            });
}
