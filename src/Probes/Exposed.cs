using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Probes;

/// <summary>What is read on the wire of each kind of server. Each a list of its own, so that endpoints with equal ones are equal.</summary>
public static class Exposed
{
    public static readonly IReadOnlyList<Readable> Nothing = [],
        Pages = [Readable.Pages],
        Mail = [Readable.Mail],
        MailAndLogins = [Readable.Logins, Readable.Mail],
        FilesAndLogins = [Readable.Logins, Readable.Files],
        Queries = [Readable.Queries],
        QueriesAndLogins = [Readable.Logins, Readable.Queries];

    /// <param name="what">What is read of clients that do without TLS there; nothing when none can.</param>
    public static EndpointInfo Reads(this EndpointInfo e, IReadOnlyList<Readable> what) =>
        e with
        {
            ClearText = what.Count > 0,
            Readable = what,
        };

    public static EndpointInfo ReadsIf(this EndpointInfo e, bool isClear, IReadOnlyList<Readable> what) =>
        e.Reads(isClear ? what : Nothing);
}
