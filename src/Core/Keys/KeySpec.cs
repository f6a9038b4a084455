namespace OrderlyBeacon.Core.Keys;

public enum KeyAlgorithm
{
    Rsa,
    Ec,
    Ed25519,
    Unknown,
}

/// <summary>A key algorithm and its size in bits, written <c>ec-p256</c>, <c>rsa-2048</c>.</summary>
public sealed record KeySpec(KeyAlgorithm Algorithm, int Bits)
{
    public static KeySpec P256 { get; } = new(KeyAlgorithm.Ec, 256);
    public static KeySpec P384 { get; } = new(KeyAlgorithm.Ec, 384);
    public static KeySpec P521 { get; } = new(KeyAlgorithm.Ec, 521);
    public static KeySpec Rsa2048 { get; } = new(KeyAlgorithm.Rsa, 2048);
    public static KeySpec Rsa3072 { get; } = new(KeyAlgorithm.Rsa, 3072);
    public static KeySpec Rsa4096 { get; } = new(KeyAlgorithm.Rsa, 4096);

    /// <summary>All that we make keys of.</summary>
    public static IReadOnlyList<KeySpec> All { get; } = [P256, P384, P521, Rsa2048, Rsa3072, Rsa4096];

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.KeyNotAllowed"/>.</exception>
    public static KeySpec Parse(string text) =>
        All.FirstOrDefault(k => k.ToString().Equals(text.Trim(), StringComparison.OrdinalIgnoreCase))
        ?? throw new BeaconProblem(
            ProblemCode.KeyNotAllowed,
            $"\"{text}\" is not a kind of key that is made here.",
            "Use one of " + string.Join(", ", All) + "."
        );

    public override string ToString() =>
        Algorithm switch
        {
            KeyAlgorithm.Ec => "ec-p" + Bits,
            KeyAlgorithm.Rsa => "rsa-" + Bits,
            KeyAlgorithm.Ed25519 => "ed25519",
            _ => "unknown",
        };
}
