using System.Buffers.Binary;
using System.Text;
using OrderlyBeacon.Core.Formats;

namespace OrderlyBeacon.Core.Tests;

/// <summary>The older form of Java's keystores, whole and in pieces.</summary>
public sealed class JavaKeystoreTests
{
    private static readonly byte[] First = [0x30, 1, 2, 3],
        Second = [0x30, 9];

    private static void Number(List<byte> to, int value)
    {
        var bytes = new byte[4];
        BinaryPrimitives.WriteInt32BigEndian(bytes, value);
        to.AddRange(bytes);
    }

    private static void Text(List<byte> to, string text)
    {
        to.AddRange([0, (byte)text.Length]);
        to.AddRange(Encoding.UTF8.GetBytes(text));
    }

    private static void Certificate(List<byte> to, byte[] der)
    {
        Text(to, "X.509");
        Number(to, der.Length);
        to.AddRange(der);
    }

    /// <summary>An anchor, a key with its chain, another anchor.</summary>
    private static byte[] Whole()
    {
        List<byte> all = [0xFE, 0xED, 0xFE, 0xED];
        Number(all, 2);
        Number(all, 3);
        foreach (var der in new[] { First, null, Second })
        {
            Number(all, der is null ? 1 : 2);
            Text(all, "alias");
            all.AddRange(new byte[8]);
            if (der is null)
            {
                Number(all, 5);
                all.AddRange(new byte[5]);
                Number(all, 1);
            }
            Certificate(all, der ?? [1]);
        }
        return [.. all, .. new byte[20]];
    }

    [Fact]
    public void What_it_trusts_is_read_and_its_keys_are_passed_over() =>
        Assert.Equal([First, Second], JavaKeystore.Anchors(Whole(), "").Select(a => a.ToArray()));

    [Fact]
    public void Cut_or_mutated_it_is_refused_with_a_cure_or_read()
    {
        var whole = Whole();
        var random = new Random(4711);
        for (var i = 0; i < 20_000; i++)
        {
            var bytes = whole.ToArray();
            for (var n = random.Next(4); n >= 0; n--)
                bytes[random.Next(4, bytes.Length)] = (byte)random.Next(256);
            if (random.Next(3) == 0)
                bytes = bytes[..random.Next(bytes.Length)];
            try
            {
                Assert.True(JavaKeystore.Anchors(bytes, "").Count <= JavaKeystore.MostEntries);
            }
            catch (BeaconProblem p)
            {
                Assert.NotEmpty(p.Cure);
            }
        }
    }
}
