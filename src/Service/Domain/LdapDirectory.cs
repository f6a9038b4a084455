using System.DirectoryServices.Protocols;
using System.Globalization;
using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Domain;

/// <summary>
/// An LDAP directory (RFC 4511). One with Active Directory's schema knows the groups in groups of everybody; in any other they are followed level by level. Signs in by Kerberos
/// from the service's keytab, or by name and password over TLS. Referrals are not followed; names go into filters escaped (RFC 4515).
/// </summary>
internal sealed class LdapDirectory(LdapSettings settings) : IDirectory, IDisposable
{
    private const int MostLevels = 10,
        NamesPerSearch = 20,
        NumbersPerSearch = 500,
        AccountDisabled = 2;

    /// <summary>LDAP_MATCHING_RULE_IN_CHAIN: members of members, to any depth, circles included.</summary>
    private const string InChain = "1.2.840.113556.1.4.1941";

    // Equality is indexed, "ends with" is not: the kinds of services that have certificates are named.
    private static readonly string[] ServiceKinds =
    [
        "host",
        "http",
        "ldap",
        "smtp",
        "imap",
        "pop",
        "cifs",
        "ftp",
        "nfs",
        "xmpp",
        "postgres",
        "mssqlsvc",
        "dns",
        "termsrv",
        "wsman",
        "restrictedkrbhost",
    ];

    private static readonly string[] ComputerFields =
    [
        "sAMAccountName",
        "dNSHostName",
        "servicePrincipalName",
        "objectGUID",
        "entryUUID",
        "userAccountControl",
        "mS-DS-CreatorSID",
    ];

    private readonly LdapConnections _connections = new(settings);
    private Shape? _shape;
    private long _questions;

    /// <param name="Base">Where searches begin.</param>
    /// <param name="HasChain">Whether it follows nested groups by itself.</param>
    private sealed record Shape(string Base, bool HasChain, string Realm);

    /// <summary>Round trips so far, signing in left out.</summary>
    internal long Questions => Interlocked.Read(ref _questions);

    public string Called => settings.Called;

    public async ValueTask<string> RealmAsync(CancellationToken ct) =>
        settings.Realm.Length > 0 ? settings.Realm.ToUpperInvariant() : (_shape ?? await _connections.RunAsync(ShapeOf, ct)).Realm;

    public Task<DirectoryComputer?> ComputerOfAccountAsync(string account, CancellationToken ct) =>
        _connections.RunAsync(c => Computers(c, $"(sAMAccountName={Escape(account)})").FirstOrDefault(), ct);

    public Task<IReadOnlyList<DirectoryComputer>> ComputersOfNameAsync(string name, CancellationToken ct) =>
        _connections.RunAsync(c => Computers(c, $"(dNSHostName={Escape(name)})"), ct);

    public Task<DirectoryPerson?> PersonAsync(string name, CancellationToken ct) => _connections.RunAsync(c => Person(c, name), ct);

    public Task<IReadOnlyDictionary<string, IReadOnlyList<string>>> OwnersAsync(IReadOnlyCollection<string> names, CancellationToken ct) =>
        _connections.RunAsync(c => Owners(c, names), ct);

    public Task PublishAsync(string account, byte[] certificate, IReadOnlyList<byte[]> instead, CancellationToken ct) =>
        _connections.RunAsync(c => Publish(c, account, certificate, instead), ct);

    private bool Publish(LdapConnection c, string account, byte[] certificate, IReadOnlyList<byte[]> instead)
    {
        var shape = ShapeOf(c);
        // RFC 4523 section 2.1 wants the option; the other schema has no such thing.
        var attribute = shape.HasChain ? "userCertificate" : "userCertificate;binary";
        var entries = Search(c, shape.Base, $"(&(objectClass=computer)(sAMAccountName={Escape(account)}))", 2, [attribute]);
        if (entries is not [var entry])
            return false;
        var has = entry.Attributes[attribute] is { } a ? a.GetValues(typeof(byte[])).Cast<byte[]>().ToList() : [];
        bool IsAmong(byte[] value, IEnumerable<byte[]> all) => all.Any(v => v.AsSpan().SequenceEqual(value));
        var wanted = has.Where(v => !IsAmong(v, instead)).ToList();
        if (!IsAmong(certificate, wanted))
            wanted.Add(certificate);
        else if (wanted.Count == has.Count)
            return true;
        var change = new DirectoryAttributeModification { Name = attribute, Operation = DirectoryAttributeOperation.Replace };
        foreach (var value in wanted)
            change.Add(value);
        try
        {
            ThrowIfReferred(c.SendRequest(new ModifyRequest(entry.DistinguishedName, change)));
            return true;
        }
        catch (DirectoryOperationException e) when (e.Response?.ResultCode == ResultCode.InsufficientAccessRights)
        {
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"The service's account may not write userCertificate of {account}.",
                "Grant its account that property on computers, or have the profile not publish.",
                e
            );
        }
    }

    private IReadOnlyList<DirectoryComputer> Computers(LdapConnection c, string filter)
    {
        var shape = ShapeOf(c);
        var entries = Search(c, shape.Base, $"(&(objectClass=computer){filter})", 5, ComputerFields);
        return [.. entries.Select(e => Computer(c, e))];
    }

    private DirectoryComputer Computer(LdapConnection c, SearchResultEntry e) =>
        new(
            IdOf(e),
            Text(e, "sAMAccountName"),
            [.. Texts(e, "dNSHostName").Select(n => n.ToLowerInvariant().TrimEnd('.'))],
            Texts(e, "servicePrincipalName"),
            IsUsersOwn(e) ? GroupsWithIt(c, e.DistinguishedName) : GroupsOf(c, e.DistinguishedName),
            IsEnabled(e),
            IsUsersOwn(e)
        );

    private static bool IsUsersOwn(SearchResultEntry e) => e.Attributes.Contains("mS-DS-CreatorSID");

    /// <summary>
    /// Groups that somebody put it into. Every computer is in the domain's own group of computers from its first moment, and by that in whatever has this group in it: for an
    /// account that anybody may have made this says nothing.
    /// </summary>
    private List<DirectoryGroup> GroupsWithIt(LdapConnection c, string member)
    {
        var shape = ShapeOf(c);
        var filter = shape.HasChain ? $"(&(objectClass=group)(member={Escape(member)}))" : $"(|{MemberFilter(member)})";
        return [.. Search(c, shape.Base, filter, 1000, GroupFields).Select(Group)];
    }

    private DirectoryPerson? Person(LdapConnection c, string name)
    {
        var shape = ShapeOf(c);
        var account = name.Split('@')[0];
        var entry = Search(
                c,
                shape.Base,
                $"(&(objectClass=person)(!(objectClass=computer))(|(sAMAccountName={Escape(account)})(uid={Escape(account)})))",
                2,
                ["sAMAccountName", "uid", "objectGUID", "entryUUID", "userAccountControl"]
            )
            .FirstOrDefault();
        return entry is null ? null : new(IdOf(entry), name, GroupsOf(c, entry.DistinguishedName), IsEnabled(entry));
    }

    private List<DirectoryGroup> GroupsOf(LdapConnection c, string member)
    {
        var shape = ShapeOf(c);
        if (shape.HasChain)
            return GroupsOfToken(c, member, shape);
        var found = new Dictionary<string, DirectoryGroup>(StringComparer.OrdinalIgnoreCase);
        IReadOnlyList<string> level = [member];
        for (var i = 0; i < MostLevels && level.Count > 0; i++)
        {
            var next = new List<string>();
            foreach (var part in level.Chunk(100))
            foreach (var e in Search(c, shape.Base, $"(|{string.Concat(part.Select(MemberFilter))})", 5000, GroupFields))
                if (found.TryAdd(e.DistinguishedName, Group(e)))
                    next.Add(e.DistinguishedName);
            level = next;
        }
        return [.. found.Values];
    }

    /// <summary>
    /// The directory keeps ready what a sign-in needs, every group in groups as its number (tokenGroups); asking each group whether it leads to the member takes minutes where
    /// there are thousands. Nobody is in no group at all: without the numbers the account may not read them, and the groups are asked.
    /// </summary>
    private List<DirectoryGroup> GroupsOfToken(LdapConnection c, string member, Shape shape)
    {
        var token = Search(c, member, "(objectClass=*)", 1, ["tokenGroups"], SearchScope.Base).FirstOrDefault()?.Attributes["tokenGroups"];
        if (token is not { Count: > 0 })
            return
            [
                .. Search(c, shape.Base, $"(&(objectClass=group)(member:{InChain}:={Escape(member)}))", 5000, GroupFields).Select(Group),
            ];
        var numbers = token.GetValues(typeof(byte[])).Cast<byte[]>().Select(n => $"(objectSid={Escape(n)})");
        return
        [
            .. numbers
                .Chunk(NumbersPerSearch)
                .SelectMany(part => Search(c, shape.Base, $"(&(objectClass=group)(|{string.Concat(part)}))", NumbersPerSearch, GroupFields))
                .Select(Group),
        ];
    }

    private static readonly string[] GroupFields = ["sAMAccountName", "cn", "whenChanged", "modifyTimestamp"];

    private static string MemberFilter(string dn) => $"(member={Escape(dn)})(uniqueMember={Escape(dn)})";

    private static DirectoryGroup Group(SearchResultEntry e)
    {
        var name = Text(e, "sAMAccountName") is { Length: > 0 } account ? account : Text(e, "cn");
        var changed = Text(e, "whenChanged") is { Length: > 0 } when ? when : Text(e, "modifyTimestamp");
        return new(
            name.ToLowerInvariant(),
            DateTimeOffset.TryParseExact(
                changed.Split('.')[0].TrimEnd('Z'),
                "yyyyMMddHHmmss",
                CultureInfo.InvariantCulture,
                DateTimeStyles.AssumeUniversal,
                out var at
            )
                ? at
                : null
        );
    }

    private IReadOnlyDictionary<string, IReadOnlyList<string>> Owners(LdapConnection c, IReadOnlyCollection<string> names)
    {
        var shape = ShapeOf(c);
        var owners = new Dictionary<string, List<string>>();
        foreach (var part in names.Distinct().Chunk(NamesPerSearch))
        {
            var terms = part.SelectMany(n =>
                ServiceKinds.Select(k => $"(servicePrincipalName={k}/{Escape(n)})").Prepend($"(dNSHostName={Escape(n)})")
            );
            foreach (
                var e in Search(
                    c,
                    shape.Base,
                    $"(|{string.Concat(terms)})",
                    1000,
                    ["sAMAccountName", "dNSHostName", "servicePrincipalName"]
                )
            )
            {
                var has = Texts(e, "dNSHostName")
                    .Select(n => n.ToLowerInvariant().TrimEnd('.'))
                    .Concat(Texts(e, "servicePrincipalName").Select(DirectoryBook.HostOf))
                    .ToHashSet();
                foreach (var name in part.Where(has.Contains))
                    (owners.TryGetValue(name, out var list) ? list : owners[name] = []).Add(Text(e, "sAMAccountName"));
            }
        }
        return owners.ToDictionary(o => o.Key, o => (IReadOnlyList<string>)[.. o.Value.Distinct()]);
    }

    private Shape ShapeOf(LdapConnection c)
    {
        if (_shape is { } known)
            return known;
        var root = Search(c, "", "(objectClass=*)", 1, ["defaultNamingContext", "namingContexts"], SearchScope.Base).FirstOrDefault();
        var context = root is null ? "" : Text(root, "defaultNamingContext");
        var first = root is null ? null : Texts(root, "namingContexts").FirstOrDefault();
        var @base = new[] { settings.Base, context, first ?? "" }.FirstOrDefault(b => b.Length > 0) ?? "";
        var realm = string.Join('.', Core.Names.DistinguishedName.Parse(@base).ValuesOf(Oids.DomainComponent).Reverse());
        return _shape = new(@base, context.Length > 0, realm.ToUpperInvariant());
    }

    private List<SearchResultEntry> Search(
        LdapConnection c,
        string @base,
        string filter,
        int most,
        string[] fields,
        SearchScope scope = SearchScope.Subtree
    )
    {
        var request = new SearchRequest(@base, filter, scope, fields) { SizeLimit = 0 };
        // A directory gives a thousand at a time; the pages are one answer (RFC 2696).
        var pages = new PageResultRequestControl(1000) { IsCritical = false };
        if (scope != SearchScope.Base)
            request.Controls.Add(pages);
        var found = new List<SearchResultEntry>();
        do
        {
            Interlocked.Increment(ref _questions);
            var answer = (SearchResponse)c.SendRequest(request);
            ThrowIfReferred(answer);
            found.AddRange(answer.Entries.Cast<SearchResultEntry>());
            pages.Cookie = answer.Controls.OfType<PageResultResponseControl>().FirstOrDefault()?.Cookie ?? [];
        } while (pages.Cookie.Length > 0 && found.Count < most);
        return found;
    }

    /// <summary>The platform takes "ask somebody else" for an answer with nothing in it, and nobody would own a name.</summary>
    private static void ThrowIfReferred(DirectoryResponse answer)
    {
        if (answer.ResultCode == ResultCode.Referral)
            throw new DirectoryOperationException(answer);
    }

    private static bool IsEnabled(SearchResultEntry e) =>
        !int.TryParse(Text(e, "userAccountControl"), CultureInfo.InvariantCulture, out var flags) || (flags & AccountDisabled) == 0;

    private static string IdOf(SearchResultEntry e)
    {
        if (e.Attributes["objectGUID"] is { Count: > 0 } guid)
            return new Guid((byte[])guid.GetValues(typeof(byte[]))[0]).ToString();
        if (Text(e, "entryUUID") is { Length: > 0 } uuid)
            return uuid;
        return e.DistinguishedName.ToLowerInvariant();
    }

    private static string Text(SearchResultEntry e, string field) => Texts(e, field) is [var first, ..] ? first : "";

    private static string[] Texts(SearchResultEntry e, string field) =>
        e.Attributes[field] is { Count: > 0 } values ? [.. values.GetValues(typeof(string)).Cast<string>().Take(5000)] : [];

    /// <summary>A value inside a filter (RFC 4515 section 3): what has a meaning there, and what is not plain ASCII, as its bytes.</summary>
    internal static string Escape(string value)
    {
        var text = new StringBuilder();
        foreach (var b in Encoding.UTF8.GetBytes(value))
            if (b is > 0x1F and < 0x7F and not ((byte)'*' or (byte)'(' or (byte)')' or (byte)'\\'))
                text.Append((char)b);
            else
                text.Append(CultureInfo.InvariantCulture, $"\\{b:x2}");
        return text.ToString();
    }

    private static string Escape(byte[] value) => string.Concat(value.Select(b => $"\\{b:x2}"));

    public void Dispose() => _connections.Dispose();
}
