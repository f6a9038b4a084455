namespace OrderlyBeacon.Core.Names;

/// <summary>Characters that nobody sees and that change how the others are read: a name or a reason with them shows an approver something else than it is.</summary>
public static class HiddenText
{
    /// <summary>
    /// Control characters, line and paragraph separators, those without width, and those that turn the direction of writing (Unicode Standard Annex 9, <c>Bidi_Control</c>).
    /// Joiners stay: some scripts are not written without them.
    /// </summary>
    public static bool Is(char c) =>
        char.IsControl(c)
        || c
            is '\u061C' // Arabic letter mark
                or '\u200B' // zero width space
                or '\u200E'
                or '\u200F' // left-to-right and right-to-left mark
                or '\u2028'
                or '\u2029' // separators
                or (>= '\u202A' and <= '\u202E') // embeddings and overrides
                or (>= '\u2060' and <= '\u2064') // word joiner and invisible operators
                or (>= '\u2066' and <= '\u2069') // isolates
                or '\uFEFF'; // byte order mark

    /// <summary>The first of them in a text; null when there is none.</summary>
    public static char? In(string text)
    {
        foreach (var c in text)
            if (Is(c))
                return c;
        return null;
    }
}
