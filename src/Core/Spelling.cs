namespace OrderlyBeacon.Core;

/// <summary>Words that somebody mistyped.</summary>
public static class Spelling
{
    /// <summary>The word that was probably meant; null when none is like it. In a short word two slips make any word of any other.</summary>
    public static string? Closest(string word, IEnumerable<string> among) =>
        among.Where(w => Slips(w, word) <= (w.Length < 7 ? 1 : 2)).MinBy(w => Slips(w, word));

    /// <summary>How many letters are too many, missing, another one, or in each other's place.</summary>
    public static int Slips(string a, string b)
    {
        var (x, y) = (a.ToUpperInvariant(), b.ToUpperInvariant());
        if (Math.Abs(x.Length - y.Length) > 2)
            return int.MaxValue;
        var d = new int[x.Length + 1, y.Length + 1];
        for (var i = 0; i <= x.Length; i++)
        for (var j = 0; j <= y.Length; j++)
        {
            if (i == 0 || j == 0)
            {
                d[i, j] = i + j;
                continue;
            }
            var other = d[i - 1, j - 1] + (x[i - 1] == y[j - 1] ? 0 : 1);
            d[i, j] = Math.Min(Math.Min(d[i - 1, j], d[i, j - 1]) + 1, other);
            if (i > 1 && j > 1 && x[i - 1] == y[j - 2] && x[i - 2] == y[j - 1])
                d[i, j] = Math.Min(d[i, j], d[i - 2, j - 2] + 1);
        }
        return d[x.Length, y.Length];
    }
}
