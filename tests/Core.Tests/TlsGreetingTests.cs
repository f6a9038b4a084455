using OrderlyBeacon.Core.Handshakes;

namespace OrderlyBeacon.Core.Tests;

/// <summary>The first message of a handshake in one version, and what comes back. That real servers understand it is tried in the agent's tests.</summary>
public sealed class TlsGreetingTests
{
    private static readonly byte[] Zeros = new byte[TlsGreeting.RandomBytes];

    [Theory]
    [InlineData(TlsVersion.Tls10, "0301")]
    [InlineData(TlsVersion.Tls12, "0303")]
    [InlineData(TlsVersion.Tls13, "0303")]
    public void It_offers_one_version(TlsVersion version, string legacy)
    {
        var hello = TlsGreeting.Write(version, "a.thistledown.example", Zeros);
        Assert.Equal(hello.Length - TlsGreeting.RecordHeader, TlsGreeting.LengthOf(hello));
        var text = Convert.ToHexString(hello);
        Assert.StartsWith("160301", text);
        Assert.Equal("01", text[10..12]);
        Assert.Equal(legacy, text[18..22]);
        // Supported versions: 1.3 alone.
        Assert.Equal(version == TlsVersion.Tls13, text.Contains("002B0003020304"));
        Assert.Contains(Convert.ToHexString("a.thistledown.example"u8), text);
        Assert.DoesNotContain(Convert.ToHexString("127.0.0.1"u8), Convert.ToHexString(TlsGreeting.Write(version, "127.0.0.1", Zeros)));
    }

    private static byte[] Record(string content) => Convert.FromHexString("160303" + (content.Length / 2).ToString("X4") + content);

    private static string Hello(string version, string extensions = "") =>
        "02"
        + (40 + extensions.Length / 2).ToString("X6")
        + version
        + new string('0', 64)
        + "00"
        + "1301"
        + "00"
        + (extensions.Length / 2).ToString("X4")
        + extensions;

    [Fact]
    public void What_comes_back_is_read()
    {
        Assert.Equal(TlsReply.Taken, TlsGreeting.Read(TlsVersion.Tls12, Record(Hello("0303"))));
        // A server that knows better goes on in what it knows, which was not offered.
        Assert.Equal(TlsReply.Refused, TlsGreeting.Read(TlsVersion.Tls12, Record(Hello("0302"))));
        Assert.Equal(TlsReply.Refused, TlsGreeting.Read(TlsVersion.Tls13, Record(Hello("0303"))));
        Assert.Equal(TlsReply.Taken, TlsGreeting.Read(TlsVersion.Tls13, Record(Hello("0303", "00330002001D002B00020304"))));
        Assert.Equal(TlsReply.Refused, TlsGreeting.Read(TlsVersion.Tls10, Convert.FromHexString("15030100020246")));
        Assert.Equal(TlsReply.NotUnderstood, TlsGreeting.Read(TlsVersion.Tls12, "HTTP/1.1 400 Bad Request"u8));
        Assert.Null(TlsGreeting.LengthOf("HTTP/"u8));
        Assert.Null(TlsGreeting.LengthOf([22, 3, 1, 0xFF, 0xFF]));
    }

    [Fact]
    public void Nothing_that_comes_back_does_harm()
    {
        var random = new Random(8446);
        var good = Record(Hello("0303", "00330002001D002B00020304"));
        for (var i = 0; i < 50_000; i++)
        {
            var spoiled = good[..random.Next(good.Length + 1)].ToArray();
            for (var n = 0; n < 3 && spoiled.Length > 0; n++)
                spoiled[random.Next(spoiled.Length)] = (byte)random.Next(256);
            TlsGreeting.Read((TlsVersion)(0x0301 + i % 4), spoiled);
        }
    }
}
