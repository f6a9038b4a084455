namespace OrderlyBeacon.Core.Paths;

/// <summary>What following a path may cost: whoever serves certificates chooses how many there are and what is in them, before anything is trusted.</summary>
internal sealed class PathWork
{
    /// <summary>Signatures that are checked for one question.</summary>
    private const int MostSignatures = 100;

    /// <summary>Certificates at which ways go on: who signs ten authorities with each other makes millions of ways.</summary>
    private const int MostSteps = 1000;

    /// <summary>Comparisons of a name with a bound.</summary>
    private const int MostComparisons = 1 << 20;

    private int _signatures,
        _steps,
        _comparisons;

    public void Signature()
    {
        if (++_signatures > MostSignatures)
            throw new TooMuch($"over {MostSignatures} signatures would have to be checked");
    }

    public void Step()
    {
        if (++_steps > MostSteps)
            throw new TooMuch($"there are over {MostSteps} ways through its certificates");
    }

    public void Comparisons(int count)
    {
        _comparisons += count;
        if (_comparisons > MostComparisons)
            throw new TooMuch($"over {MostComparisons} comparisons of names with bounds would have to be made");
    }

    /// <summary>The bound is reached; it does not leave the judge.</summary>
    public sealed class TooMuch(string what) : Exception(what);
}
