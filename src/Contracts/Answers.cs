namespace OrderlyBeacon.Contracts;

/// <summary>An answer of several rows, with the cursor for the next ones; null at the end.</summary>
public sealed record Page<T>(IReadOnlyList<T> Items, string? Next);

/// <summary>What the caller may not do, why not, and what would change that.</summary>
/// <param name="Operations">As in the OpenAPI document, as <c>renewCertificate</c>.</param>
public sealed record Denied(IReadOnlyList<string> Operations, string Reason, string Cure);

/// <summary>What changed, for live views: the noun and its name.</summary>
public sealed record ChangeEvent(string Noun, string Id);

/// <summary>RFC 9457, with our code and cure.</summary>
public sealed record Problem(string? Type, string? Title, int? Status, string? Detail, string? Code, string? Cure);

/// <summary>What was done, in sentences.</summary>
public sealed record Told(IReadOnlyList<string> Sentences);

/// <summary>Files that a person carries, each as its bytes in base64; what they are is seen from their content.</summary>
public sealed record CarriedFiles(IReadOnlyList<string> Files);
