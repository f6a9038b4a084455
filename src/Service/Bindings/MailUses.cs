using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Bindings;

/// <summary>What services do for mail: by protocol and port, and of web sites by the names that mail programs and people look for.</summary>
internal static class MailUses
{
    private const string Any = "any";

    private static readonly string[] Sites = ["nginx", "apache", "haproxy", "tomcat"],
        Mailers = ["postfix", "dovecot"];

    /// <summary>The first part of a site's name, in the words that programs ask for or that are usual.</summary>
    private static readonly Dictionary<string, MailUse> ByLabel = new()
    {
        ["webmail"] = MailUse.WebMail,
        ["mail"] = MailUse.WebMail,
        ["autoconfig"] = MailUse.ClientSetup,
        ["autodiscover"] = MailUse.ClientSetup,
        ["mobile"] = MailUse.MobileSync,
        ["sync"] = MailUse.MobileSync,
    };

    /// <summary>What a list can be narrowed to.</summary>
    public static readonly IReadOnlyList<string> Words = [Any, .. OpenWord<MailUse>.Words.Where(w => w != "unknown")];

    public static int MaskOf(string word) => word == Any ? ~0 : Bit(OpenWord<MailUse>.Of(word));

    public static int Mask(string connector, IReadOnlyList<string> names, IReadOnlyList<EndpointInfo> endpoints) =>
        Of(connector, names, endpoints).Aggregate(0, (mask, use) => mask | Bit(use.Use));

    public static IReadOnlyList<MailUseInfo> Of(string connector, IReadOnlyList<string> names, IReadOnlyList<EndpointInfo> endpoints)
    {
        if (Sites.Contains(connector))
            return
            [
                .. names
                    .Select(n => ByLabel.TryGetValue(n.Split('.')[0], out var use) ? use : (MailUse?)null)
                    .OfType<MailUse>()
                    .Distinct()
                    .Select(use => new MailUseInfo(use, endpoints)),
            ];
        if (!Mailers.Contains(connector))
            return [];
        return [.. endpoints.GroupBy(e => UseOf(connector, e)).OrderBy(g => g.Key).Select(g => new MailUseInfo(g.Key, [.. g]))];
    }

    private static MailUse UseOf(string connector, EndpointInfo e) =>
        (connector, e.Protocol, e.Port) switch
        {
            ("postfix", _, 25 or 2525) => MailUse.ServerToServer,
            ("postfix", _, _) => MailUse.Submission,
            (_, ProbeProtocol.Smtp, _) => MailUse.Submission,
            (_, ProbeProtocol.Pop3, _) or (_, _, 995) => MailUse.Pop,
            _ => MailUse.Imap,
        };

    private static int Bit(MailUse use) => 1 << (int)use;
}
