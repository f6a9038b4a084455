using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Bindings;

/// <summary>Which certificate a service has now, of somebody else's making or another of ours: whoever replaces it reads it before.</summary>
internal static class ReplacedByIt
{
    /// <param name="serials">Of the certificate that takes its place: what is served from among them is renewed, and not replaced.</param>
    /// <returns>A sentence; null when nothing is replaced.</returns>
    public static string? Of(string host, HostService service, IReadOnlyCollection<string> serials)
    {
        if (service.ServedSerial is not { } serial || serials.Contains(serial))
            return null;
        if (Shapes.Looks(service.LooksJson).Select(l => l.Served).FirstOrDefault(s => s?.Serial == serial) is not { } served)
            return null;
        var called = served.Subject.Length > 0 ? served.Subject : string.Join(", ", served.Names.Take(3));
        return $"{host.Split('.')[0]}/{service.Name} serves {called} of {served.Issuer} now, until {served.NotAfter:d MMM yyyy}: it is replaced{UsedFor(service)}.";
    }

    /// <summary>Of a mail server: one certificate is that of all its uses.</summary>
    private static string UsedFor(HostService service)
    {
        var uses = MailUses.Of(service.Connector, Shapes.Strings(service.NamesJson), Shapes.Endpoints(service.EndpointsJson));
        return uses.Count < 2
            ? ""
            : $", for {string.Join(" and ", uses.Select(u => OpenWord<MailUse>.WordOf(u.Use).Replace('-', ' ')))} alike";
    }
}
