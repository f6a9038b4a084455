namespace OrderlyBeacon.Contracts;

public sealed record ServiceInfo(
    string Host,
    string Name,
    string Connector,
    IReadOnlyList<string> Names,
    IReadOnlyList<EndpointInfo> Endpoints,
    IReadOnlyList<string> Places,
    string? CertificateFile,
    Severity Severity,
    string State,
    BindingInfo? Binding,
    LookInfo? Look,
    ProblemInfo? Problem
)
{
    /// <summary>Whose the host is: who may order work on it.</summary>
    public string Owner
    {
        get => field ?? "";
        init;
    }

    /// <summary>It can be used without TLS at one of its endpoints at least.</summary>
    public bool ClearText { get; init; }

    /// <summary>Its use without TLS was ended from here, and can be allowed again.</summary>
    public bool RequiresTls { get; init; }

    /// <summary>The lowest version of TLS that was set from here; null when none was.</summary>
    public LowestTls? Lowest { get; init; }

    /// <summary>What it does for mail, and where; empty when nothing.</summary>
    public IReadOnlyList<MailUseInfo> Mail { get; init; } = [];

    /// <summary>What the caller may not do with it.</summary>
    public IReadOnlyList<Denied> Denied { get; init; } = [];
}

/// <summary>One use of a service for mail.</summary>
/// <param name="Endpoints">Those at which it is used so.</param>
public sealed record MailUseInfo(MailUse Use, IReadOnlyList<EndpointInfo> Endpoints);

/// <summary>The TLSA records (RFC 6698) of one name and port of a service.</summary>
/// <param name="Owner"><c>_25._tcp.mail.thistledown.example</c>.</param>
/// <param name="Life">Their TTL in seconds; 0 when there are none.</param>
/// <param name="Records">As in a zone file, without owner and type.</param>
/// <param name="Problem">Why it is not known; null when it is.</param>
public sealed record ServiceRecords(string Owner, int Life, IReadOnlyList<string> Records, RecordStanding Standing, string? Problem)
{
    /// <summary>The line that would make them match; null when they do, or when there are none.</summary>
    public string? Missing { get; init; }
}

public sealed record BindingInfo(
    string Certificate,
    string Host,
    string Service,
    BindingState State,
    string? WantedSerial,
    string? SeenSerial,
    string? Message,
    DateTimeOffset? SeenAt
);

/// <param name="Required">Whether TLS shall be required; else clear text shall be allowed again, where it was ended from here.</param>
public sealed record TlsWish(bool Required)
{
    /// <summary>What a plan is about instead: no version of TLS below this one shall be taken.</summary>
    public LowestTls? Lowest { get; init; }
}

/// <param name="Lowest">No version of TLS below it shall be taken.</param>
public sealed record LowestWish(LowestTls Lowest);

/// <summary>Versions of TLS as people write them.</summary>
public static class TlsVersions
{
    /// <summary>All that are still met, oldest first.</summary>
    public static readonly IReadOnlyList<string> All = ["TLS 1.0", "TLS 1.1", "TLS 1.2", "TLS 1.3"];

    public static string NameOf(LowestTls lowest) => lowest == LowestTls.Tls13 ? "TLS 1.3" : "TLS 1.2";

    /// <summary>Those of some versions that are below one, oldest first.</summary>
    public static IReadOnlyList<string> Below(LowestTls lowest, IEnumerable<string> versions) =>
        [.. All.TakeWhile(v => v != NameOf(lowest)).Where(versions.Contains)];
}

/// <param name="Certificate">Null only in a plan: what unbinding would change.</param>
public sealed record BindWish(string? Certificate, int? Port)
{
    /// <summary>Names of the service that the certificate lacks, and that shall be left out all the same: clients that use them will refuse it.</summary>
    public IReadOnlyList<string>? LeaveOut { get; init; }
}
