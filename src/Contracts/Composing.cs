namespace OrderlyBeacon.Contracts;

/// <summary>What a certificate shall be for; the names follow.</summary>
/// <param name="Purpose"><c>website</c>, <c>mail</c>, <c>database</c>, <c>directory</c>, <c>files</c>, <c>federation</c> or <c>several</c>.</param>
/// <param name="Services">Services of the host; all that fit when left out.</param>
/// <param name="Domain">The domain behind the @, for mail; the directory's for a directory.</param>
/// <param name="Functions">Of mail: <c>web-inside</c>, <c>web-outside</c>, <c>client-setup</c>, <c>mobile-sync</c>, <c>submission</c>, <c>imap</c>, <c>pop</c>, <c>server-to-server</c>.</param>
public sealed record ComposeWish(
    string Purpose,
    string Host,
    IReadOnlyList<string>? Services,
    string? Domain,
    IReadOnlyList<string>? Functions
);

/// <summary>A request as it was composed from a purpose. Nothing is granted by it.</summary>
/// <param name="Names">Those that belong in first; the first is proposed as common name.</param>
/// <param name="BindTo">Services that it fits.</param>
public sealed record ComposedNames(
    IReadOnlyList<ProposedNameInfo> Names,
    IReadOnlyList<string> BindTo,
    IReadOnlyList<MissingInfo> Missing,
    IReadOnlyList<string> Remarks
);

/// <param name="Uses">What it is for.</param>
/// <param name="Without">What breaks when it is left out.</param>
/// <param name="Source">Where it was found.</param>
/// <param name="Chosen">Whether it belongs in unless somebody says otherwise.</param>
public sealed record ProposedNameInfo(string Name, IReadOnlyList<string> Uses, string Without, string Source, bool Chosen);

/// <param name="Field">What must be given.</param>
public sealed record MissingInfo(string Field, string Reason);
