using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Swap;

/// <summary>Differences of two texts by lines: for people, and to join two edits of one text.</summary>
internal static class TextDiff
{
    private const int Context = 3;

    /// <summary>Lines that stay (blank first), go (-) and come (+), with three lines around each change; passwords in them are hidden.</summary>
    public static string Of(string before, string after)
    {
        var (a, b) = (Lines(before), Lines(after));
        var (shownOfA, shownOfB) = (SecretText.Hide(a), SecretText.Hide(b));
        var ops = Ops(a, b);
        var shown = new bool[ops.Count];
        for (var i = 0; i < ops.Count; i++)
            if (ops[i].Kind != ' ')
                for (var j = Math.Max(0, i - Context); j <= Math.Min(ops.Count - 1, i + Context); j++)
                    shown[j] = true;
        var text = new StringBuilder();
        var (line, newLine) = (0, 0);
        for (var i = 0; i < ops.Count; i++)
        {
            if (ops[i].Kind != '+')
                line++;
            if (ops[i].Kind != '-')
                newLine++;
            if (!shown[i])
                continue;
            if (i == 0 || !shown[i - 1])
                text.Append("@ line ").Append(Math.Max(1, line)).Append('\n');
            text.Append(ops[i].Kind).Append(ops[i].Kind == '+' ? shownOfB[newLine - 1] : shownOfA[line - 1]).Append('\n');
        }
        return text.ToString();
    }

    /// <summary>Joins two edits of the same text that touch different lines.</summary>
    /// <exception cref="BeaconProblem">Both change the same lines differently.</exception>
    public static string Merge(string origin, string one, string other)
    {
        if (one == other || other == origin)
            return one;
        if (one == origin)
            return other;
        var (o, a, b) = (Lines(origin), Lines(one), Lines(other));
        var (inA, inB) = (ByOriginLine(Ops(o, a), o.Length), ByOriginLine(Ops(o, b), o.Length));
        var result = new List<string>();
        for (var i = 0; i <= o.Length; i++)
        {
            var (x, y) = (inA[i], inB[i]);
            if (x.Added.Count > 0 && y.Added.Count > 0 && !x.Added.SequenceEqual(y.Added))
                throw new BeaconProblem(
                    ProblemCode.ConfigurationUnsupported,
                    "Two services stand on the same line of one configuration file.",
                    "Put each server block on lines of its own."
                );
            result.AddRange(x.Added.Count > 0 ? x.Added : y.Added);
            if (i < o.Length && !x.Removed && !y.Removed)
                result.Add(o[i]);
        }
        return string.Join('\n', result);
    }

    private static (List<string> Added, bool Removed)[] ByOriginLine(List<(char Kind, string Text)> ops, int count)
    {
        var slots = Enumerable.Range(0, count + 1).Select(_ => (Added: new List<string>(), Removed: false)).ToArray();
        var at = 0;
        foreach (var (kind, text) in ops)
            if (kind == '+')
                slots[at].Added.Add(text);
            else
            {
                if (kind == '-')
                    slots[at].Removed = true;
                at++;
            }
        return slots;
    }

    private static string[] Lines(string s) => s.Split('\n');

    /// <summary>Common head and tail, and a longest common subsequence between them; very large middles are replaced whole.</summary>
    private static List<(char Kind, string Text)> Ops(string[] a, string[] b)
    {
        var head = 0;
        while (head < a.Length && head < b.Length && a[head] == b[head])
            head++;
        var tail = 0;
        while (tail < a.Length - head && tail < b.Length - head && a[^(tail + 1)] == b[^(tail + 1)])
            tail++;
        var ops = a.Take(head).Select(l => (' ', l)).ToList();
        var (m, n) = (a.Length - head - tail, b.Length - head - tail);
        if ((long)m * n > 4_000_000)
        {
            ops.AddRange(a.Skip(head).Take(m).Select(l => ('-', l)));
            ops.AddRange(b.Skip(head).Take(n).Select(l => ('+', l)));
        }
        else
        {
            var t = new int[m + 1, n + 1];
            for (var i = m - 1; i >= 0; i--)
            for (var j = n - 1; j >= 0; j--)
                t[i, j] = a[head + i] == b[head + j] ? t[i + 1, j + 1] + 1 : Math.Max(t[i + 1, j], t[i, j + 1]);
            var (x, y) = (0, 0);
            while (x < m || y < n)
                if (x < m && y < n && a[head + x] == b[head + y])
                {
                    ops.Add((' ', a[head + x]));
                    x++;
                    y++;
                }
                else if (y < n && (x == m || t[x, y + 1] > t[x + 1, y]))
                    ops.Add(('+', b[head + y++]));
                else
                    ops.Add(('-', a[head + x++]));
        }
        ops.AddRange(a.Skip(a.Length - tail).Select(l => (' ', l)));
        return ops;
    }
}
