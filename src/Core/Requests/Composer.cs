using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Requests;

/// <summary>
/// Proposes the names that a purpose wants. To use it: ask DNS about <see cref="Candidates"/>, give what it knows as <see cref="ComposerFacts.InDns"/>, and call
/// <see cref="Compose"/>. A proposal grants nothing: each name is decided like any other.
/// </summary>
public sealed class Composer
{
    private static readonly Dictionary<Purpose, string[]> Kinds = new()
    {
        [Purpose.Website] = ["nginx", "apache", "haproxy", "tomcat"],
        [Purpose.Mail] = ["postfix", "dovecot"],
        [Purpose.Database] = ["postgresql", "mariadb", "redis"],
        [Purpose.Directory] = ["slapd", "samba"],
        [Purpose.Files] = ["vsftpd", "proftpd", "samba"],
        [Purpose.Federation] = ["saml", "nginx"],
    };

    private static readonly Dictionary<Purpose, string[]> PrincipalKinds = new()
    {
        [Purpose.Website] = ["http"],
        [Purpose.Federation] = ["http"],
        [Purpose.Mail] = ["smtp", "imap", "pop"],
        [Purpose.Database] = ["postgres", "mssqlsvc"],
        [Purpose.Directory] = ["ldap"],
        [Purpose.Files] = ["cifs", "ftp", "nfs"],
    };

    private readonly ComposerFacts _f;
    private readonly Dictionary<string, (List<string> Uses, string Without, string Source, bool IsChosen)> _names = [];
    private readonly List<string> _order = [];
    private readonly List<MissingPart> _missing = [];
    private readonly List<string> _remarks = [];

    private Composer(ComposerFacts facts) => _f = facts;

    /// <summary>Names worth asking DNS about, before composing.</summary>
    public static IReadOnlyList<string> Candidates(ComposerFacts facts)
    {
        if (facts.Purpose == Purpose.Device && facts.Domain.Length > 0)
            return [.. DeviceNames.Select(n => $"{n}.{facts.Domain}")];
        if (facts.Purpose == Purpose.Mail && facts.Domain.Length > 0)
            return [.. MailNames.Select(n => $"{n}.{facts.Domain}")];
        return
        [
            .. ServicesOf(facts).SelectMany(s => s.Names).Where(n => !n.Contains('*')).Select(Sibling).OfType<string>().Distinct().Take(50),
        ];
    }

    private static readonly string[] DeviceNames = ["vpn", "remote", "gateway", "portal"];

    private static readonly string[] MailNames = ["mail", "webmail", "smtp", "imap", "pop", "autoconfig", "autodiscover"];

    public static ComposedRequest Compose(ComposerFacts facts)
    {
        var composer = new Composer(facts);
        if (facts.Purpose == Purpose.Mail)
            composer.Mail();
        else
            composer.Others();
        composer.Principals();
        composer.Wildcards();
        return composer.Result();
    }

    private static IReadOnlyList<ComposedService> ServicesOf(ComposerFacts f) =>
        f.Purpose == Purpose.Several || !Kinds.TryGetValue(f.Purpose, out var kinds)
            ? f.Services
            : [.. f.Services.Where(s => kinds.Contains(s.Kind))];

    /// <summary>What people type besides: with www in front, or without.</summary>
    private static string? Sibling(string name)
    {
        if (name.StartsWith("www.", StringComparison.Ordinal))
            return name[4..];
        if (name.Count(c => c == '.') >= 2)
            return null;
        return "www." + name;
    }

    private void Mail()
    {
        if (_f.Functions.Count == 0)
            _missing.Add(new("functions", "Say what the mail service is used for: the names follow from it."));
        if (_f.Domain.Length == 0)
            _missing.Add(new("domain", "Give the domain behind the @ of its addresses."));
        var services = ServicesOf(_f);
        foreach (var s in services)
        foreach (var n in s.Names)
            Add(
                n,
                $"what {s.Name} calls itself",
                "Programs that are set up with this name refuse the certificate.",
                $"its configuration ({s.Kind})"
            );
        var main = _order.FirstOrDefault() ?? Known("mail") ?? (_f.Domain.Length > 0 ? $"mail.{_f.Domain}" : null);
        if (main is null)
            return;
        foreach (var function in Enum.GetValues<MailFunction>().Where(_f.Functions.Contains))
            Function(function, main);
        if (_f.Domain.Length > 0)
            TypedByPeople();
    }

    private void Function(MailFunction function, string main)
    {
        switch (function)
        {
            case MailFunction.WebInside:
                Add(_f.Host, "web mail from inside", "People inside who open the host's own name are warned.", "the host's name");
                break;
            case MailFunction.WebOutside:
                Add(
                    Known("webmail") ?? main,
                    "web mail from outside",
                    "Browsers warn everybody who reads mail from outside.",
                    SourceOf("webmail")
                );
                break;
            case MailFunction.ClientSetup when _f.Domain.Length > 0:
                foreach (var name in new[] { "autoconfig", "autodiscover" })
                    Add(
                        $"{name}.{_f.Domain}",
                        "programs that find their settings by themselves",
                        "New mail programs warn, or cannot be set up without typing everything.",
                        SourceOf(name)
                    );
                break;
            case MailFunction.MobileSync:
                Add(main, "mobile devices", "Mobile devices stop to fetch mail.", "the main name");
                break;
            case MailFunction.Submission:
                Add(Known("smtp") ?? main, "sending mail", "Mail programs refuse to send.", SourceOf("smtp"));
                break;
            case MailFunction.Imap:
                Add(Known("imap") ?? main, "reading mail by IMAP", "Mail programs refuse to read.", SourceOf("imap"));
                break;
            case MailFunction.Pop:
                Add(Known("pop") ?? main, "fetching mail by POP", "Mail programs refuse to fetch.", SourceOf("pop"));
                break;
            case MailFunction.ServerToServer:
                foreach (var exchanger in _f.Exchangers.Count > 0 ? _f.Exchangers : [main])
                    Add(
                        exchanger,
                        "mail from other organisations",
                        "Servers that check names (RFC 8461, RFC 7672) do not deliver.",
                        _f.Exchangers.Count > 0 ? "DNS (mail exchanger)" : "the main name"
                    );
                break;
        }
    }

    /// <summary>Names that DNS knows and nobody named: somebody has them in a program.</summary>
    private void TypedByPeople()
    {
        foreach (var name in MailNames.Select(n => $"{n}.{_f.Domain}").Where(n => _f.InDns?.Contains(n) == true && !_names.ContainsKey(n)))
            Add(name, "known to DNS: people may have typed it", "Whoever uses this name is warned.", "DNS", isChosen: false);
    }

    private void Others()
    {
        var services = ServicesOf(_f);
        if (_f is { Purpose: Purpose.Website, AreChosen: false } && services.Count > 1)
        {
            _missing.Add(
                new(
                    "services",
                    $"Choose the site: {string.Join(", ", services.Select(s => s.Name).Take(10))}. For all of them under one certificate, the purpose is several services."
                )
            );
            return;
        }
        foreach (var s in services)
        foreach (var n in s.Names)
        {
            Add(n, $"clients of {s.Name}", "Clients that use this name refuse the certificate.", $"its configuration ({s.Kind})");
            if (Sibling(n) is { } sibling && _f.InDns?.Contains(sibling) == true)
                Add(sibling, $"clients of {s.Name} who type it so", "They are warned before they are sent on.", "DNS", isChosen: false);
        }
        if (_f.Purpose == Purpose.Directory && _f.Domain.Length > 0)
            Add(
                _f.Domain,
                "clients that look for the domain itself",
                "Clients that are set to the domain's name refuse the certificate.",
                "the domain"
            );
        if (_f.Purpose is Purpose.Database or Purpose.Directory or Purpose.Files)
            Add(
                _f.Host,
                "clients that use the host's name",
                "Clients that are set to this host refuse the certificate.",
                "the host's name"
            );
        if (_f.Purpose == Purpose.Federation)
            _remarks.Add(
                "A sign-in service's name is in its partners' settings: choose one that outlives the host. Its signing key is another certificate, published weeks before it is used."
            );
        if (_f.Purpose == Purpose.Device)
        {
            Add(_f.Host, "the device itself", "Everybody who comes to the device by its name is warned.", "the device's name");
            foreach (var name in DeviceNames.Select(n => $"{n}.{_f.Domain}").Where(n => _f.InDns?.Contains(n) == true))
                Add(
                    name,
                    "known to DNS: what such devices are called by their users",
                    "Whoever uses this name is warned.",
                    "DNS",
                    isChosen: false
                );
            _remarks.Add("The device makes the key and keeps it; it is committed there by itself, and renewed.");
            return;
        }
        if (_order.Count == 0)
        {
            Add(_f.Host, "the host itself", "Clients that use the host's name refuse the certificate.", "the host's name");
            _missing.Add(new("names", "Nothing on this host says which names its clients use: add them."));
        }
    }

    private void Principals()
    {
        if (_order.Count == 0 || !PrincipalKinds.TryGetValue(_f.Purpose, out var kinds))
            return;
        foreach (var (kind, name) in _f.Principals.Where(p => kinds.Contains(p.Kind) && p.Name.Contains('.')))
            Add(
                name,
                "a service principal of this computer",
                "Clients that look it up in the directory refuse the certificate.",
                $"the directory ({kind})"
            );
    }

    private void Wildcards()
    {
        foreach (var name in _order.Where(n => n.StartsWith("*.", StringComparison.Ordinal)))
            _remarks.Add($"{name} stands for one label: www{name[1..]} yes; {name[2..]} itself and a.www{name[1..]} no.");
    }

    private string? Known(string label) =>
        $"{label}.{_f.Domain}" is var name && _f.Domain.Length > 0 && _f.InDns?.Contains(name) == true ? name : null;

    private string SourceOf(string label)
    {
        if (Known(label) is not null)
            return "DNS";
        if (_f.InDns is null || label is not ("autoconfig" or "autodiscover"))
            return "the main name";
        return "usual; DNS does not know it yet";
    }

    private void Add(string name, string use, string without, string source, bool isChosen = true)
    {
        if (!DnsName.TryParse(name, out var dns, out _))
            return;
        if (_names.TryGetValue(dns!.Ascii, out var known))
        {
            if (!known.Uses.Contains(use))
                known.Uses.Add(use);
            if (isChosen && !known.IsChosen)
                _names[dns.Ascii] = known with { IsChosen = true };
            return;
        }
        _names[dns.Ascii] = ([use], without, source, isChosen);
        _order.Add(dns.Ascii);
    }

    private ComposedRequest Result()
    {
        var names = _order
            .Select(n => new ProposedName(n, _names[n].Uses, _names[n].Without, _names[n].Source, _names[n].IsChosen))
            .ToList();
        return new(
            [.. names.OrderByDescending(n => n.IsChosen)],
            _order.Count == 0 ? [] : [.. ServicesOf(_f).Select(s => s.Name)],
            _missing,
            _remarks
        );
    }
}
