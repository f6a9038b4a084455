using System.Numerics;
using System.Security.Cryptography;

namespace OrderlyBeacon.Core.Keys;

/// <summary>Checks Ed25519 signatures (RFC 8032 section 5.1.7): the platform has no such key, and authorities elsewhere do. Only public values are worked with, so nothing needs constant time.</summary>
internal static class Ed25519
{
    private static readonly BigInteger P = BigInteger.Pow(2, 255) - 19;
    private static readonly BigInteger Order = BigInteger.Pow(2, 252) + BigInteger.Parse("27742317777372353535851937790883648493");
    private static readonly BigInteger D = Mod(-121665 * Inverse(121666));
    private static readonly BigInteger RootOfMinusOne = BigInteger.ModPow(2, (P - 1) / 4, P);
    private static readonly Point Base = FromY(Mod(4 * Inverse(5)), odd: false)!;

    public static bool Verify(ReadOnlySpan<byte> key, ReadOnlySpan<byte> message, ReadOnlySpan<byte> signature)
    {
        if (key.Length != 32 || signature.Length != 64)
            return false;
        var s = new BigInteger(signature[32..], isUnsigned: true);
        if (s >= Order || Decode(key) is not { } a || Decode(signature[..32]) is not { } r)
            return false;
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA512);
        hash.AppendData(signature[..32]);
        hash.AppendData(key);
        hash.AppendData(message);
        var k = new BigInteger(hash.GetHashAndReset(), isUnsigned: true) % Order;
        return Times(Base, s).SameAs(Plus(r, Times(a, k)));
    }

    /// <summary>A point in extended homogeneous coordinates (RFC 8032 section 5.1.4).</summary>
    private sealed record Point(BigInteger X, BigInteger Y, BigInteger Z, BigInteger T)
    {
        public bool SameAs(Point o) => Mod(X * o.Z - o.X * Z).IsZero && Mod(Y * o.Z - o.Y * Z).IsZero;
    }

    private static Point? Decode(ReadOnlySpan<byte> bytes)
    {
        Span<byte> copy = stackalloc byte[32];
        bytes.CopyTo(copy);
        var odd = (copy[31] & 0x80) != 0;
        copy[31] &= 0x7F;
        var y = new BigInteger(copy, isUnsigned: true);
        return y >= P ? null : FromY(y, odd);
    }

    private static Point? FromY(BigInteger y, bool odd)
    {
        var x2 = Mod((y * y - 1) * Inverse(Mod(D * y * y + 1)));
        if (x2.IsZero)
            return odd ? null : new(0, y, 1, 0);
        var x = BigInteger.ModPow(x2, (P + 3) / 8, P);
        if (!Mod(x * x - x2).IsZero)
            x = Mod(x * RootOfMinusOne);
        if (!Mod(x * x - x2).IsZero)
            return null;
        if (x.IsEven == odd)
            x = P - x;
        return new(x, y, 1, Mod(x * y));
    }

    private static Point Plus(Point p, Point q)
    {
        var a = Mod((p.Y - p.X) * (q.Y - q.X));
        var b = Mod((p.Y + p.X) * (q.Y + q.X));
        var c = Mod(2 * p.T * q.T * D);
        var d = Mod(2 * p.Z * q.Z);
        var (e, f, g, h) = (b - a, d - c, d + c, b + a);
        return new(Mod(e * f), Mod(g * h), Mod(f * g), Mod(e * h));
    }

    private static Point Times(Point p, BigInteger n)
    {
        var sum = new Point(0, 1, 1, 0);
        for (var i = (int)n.GetBitLength() - 1; i >= 0; i--)
        {
            sum = Plus(sum, sum);
            if (!((n >> i) & 1).IsZero)
                sum = Plus(sum, p);
        }
        return sum;
    }

    private static BigInteger Inverse(BigInteger x) => BigInteger.ModPow(x, P - 2, P);

    private static BigInteger Mod(BigInteger x)
    {
        var r = x % P;
        return r.Sign < 0 ? r + P : r;
    }
}
