namespace OrderlyBeacon.Core.Requests;

/// <summary>What a certificate is for: a request starts from it, and the names follow.</summary>
public enum Purpose
{
    /// <summary>One web site.</summary>
    Website,

    /// <summary>Mail for a domain: by which functions is asked.</summary>
    Mail,
    Database,

    /// <summary>An LDAP directory.</summary>
    Directory,

    /// <summary>File transfer and shares.</summary>
    Files,

    /// <summary>A sign-in service that other organisations trust.</summary>
    Federation,

    /// <summary>A device that a host's agent reaches: it makes its own key.</summary>
    Device,

    /// <summary>Several services of one host under one certificate.</summary>
    Several,
}

/// <summary>What a mail service is used for. Each wants certain names.</summary>
public enum MailFunction
{
    /// <summary>Web mail from inside.</summary>
    WebInside,

    /// <summary>Web mail from outside.</summary>
    WebOutside,

    /// <summary>Programs that find their settings by themselves.</summary>
    ClientSetup,

    /// <summary>Mobile devices.</summary>
    MobileSync,

    /// <summary>Programs that send (RFC 6409).</summary>
    Submission,
    Imap,
    Pop,

    /// <summary>Other organisations' mail servers (RFC 5321).</summary>
    ServerToServer,
}

/// <summary>A service of the host, as far as composing looks at it.</summary>
/// <param name="Kind">Its connector, as <c>nginx</c>.</param>
public sealed record ComposedService(string Kind, string Name, IReadOnlyList<string> Names);

/// <summary>What names are composed from. Names are DNS names in the form of <see cref="Names.DnsName.Ascii"/>.</summary>
public sealed record ComposerFacts
{
    public required Purpose Purpose { get; init; }
    public required string Host { get; init; }

    /// <summary>The mail domain, or the directory's; empty when nobody gave one.</summary>
    public string Domain { get; init; } = "";

    public IReadOnlyCollection<MailFunction> Functions { get; init; } = [];

    /// <summary>Services that were chosen; all of the host when none was.</summary>
    public IReadOnlyList<ComposedService> Services { get; init; } = [];

    /// <summary>Whether somebody chose them.</summary>
    public bool AreChosen { get; init; }

    /// <summary>Host parts of the computer's service principals, with their kind in small letters: (<c>http</c>, <c>www.thistledown.example</c>).</summary>
    public IReadOnlyCollection<(string Kind, string Name)> Principals { get; init; } = [];

    /// <summary>Names that DNS leads somewhere, of those that <see cref="Composer.Candidates"/> named; null when DNS is not asked.</summary>
    public IReadOnlyCollection<string>? InDns { get; init; }

    /// <summary>The domain's mail exchangers by DNS (RFC 5321 section 5.1).</summary>
    public IReadOnlyList<string> Exchangers { get; init; } = [];
}

/// <summary>One name that is proposed.</summary>
/// <param name="Uses">What it is for, each once.</param>
/// <param name="Without">What breaks when it is left out.</param>
/// <param name="Source">Where it was found.</param>
/// <param name="IsChosen">Whether it belongs in unless somebody says otherwise; else it is only a thought.</param>
public sealed record ProposedName(string Name, IReadOnlyList<string> Uses, string Without, string Source, bool IsChosen);

/// <summary>Something that must be given before names can follow.</summary>
/// <param name="Field">As it is called in the API: <c>services</c>, <c>domain</c>, <c>functions</c>, <c>names</c>.</param>
public sealed record MissingPart(string Field, string Reason);

/// <summary>A request as it was composed.</summary>
/// <param name="Names">Those that are chosen first; the first is proposed as common name.</param>
/// <param name="BindTo">Services that it fits.</param>
/// <param name="Remarks">What whoever asks should know.</param>
public sealed record ComposedRequest(
    IReadOnlyList<ProposedName> Names,
    IReadOnlyList<string> BindTo,
    IReadOnlyList<MissingPart> Missing,
    IReadOnlyList<string> Remarks
);
