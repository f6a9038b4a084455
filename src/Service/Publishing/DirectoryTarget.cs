using System.DirectoryServices.Protocols;
using System.Net;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Publishing;

/// <summary>
/// An LDAP directory (RFC 4523): below a base, an entry for each authority with <c>cACertificate;binary</c>, <c>certificateRevocationList;binary</c> and
/// <c>deltaRevocationList;binary</c>, one value for each of its keys.
/// </summary>
internal sealed class DirectoryTarget(Uri address) : IPushTarget
{
    private static readonly (PublishedKind Kind, string Attribute)[] Attributes =
    [
        (PublishedKind.Certificate, "cACertificate;binary"),
        (PublishedKind.Crl, "certificateRevocationList;binary"),
        (PublishedKind.DeltaCrl, "deltaRevocationList;binary"),
    ];

    public string Name => $"{address.Scheme}://{address.Host}{(address.Port > 0 ? ":" + address.Port : "")}{address.AbsolutePath}";

    public Task PushAsync(IReadOnlyList<PublishedFile> files, CancellationToken ct) => Task.Run(() => Push(files), ct);

    private void Push(IReadOnlyList<PublishedFile> files)
    {
        var (bind, passwordFile, root) = (
            PushPublished.Query(address, "bind"),
            PushPublished.Query(address, "password-file"),
            Uri.UnescapeDataString(address.AbsolutePath.TrimStart('/'))
        );
        try
        {
            var tls = address.Scheme == "ldaps";
            using var connection = new LdapConnection(
                new LdapDirectoryIdentifier(address.Host, Domain.LdapConnections.PortOf(address)),
                null,
                AuthType.Basic
            )
            {
                Timeout = TimeSpan.FromSeconds(10),
            };
            connection.SessionOptions.ProtocolVersion = 3;
            if (tls)
                connection.SessionOptions.SecureSocketLayer = true;
            connection.Bind(new NetworkCredential(bind, File.ReadAllText(passwordFile).Trim()));
            foreach (var authority in files.GroupBy(f => f.Authority))
                Push(connection, authority, $"cn={Escape(authority.Key)},{root}");
        }
        catch (Exception e) when (e is DirectoryException or IOException or UnauthorizedAccessException or DllNotFoundException)
        {
            throw new BeaconProblem(
                ProblemCode.Unreachable,
                $"{Name} cannot be written: {e.Message}",
                e is DllNotFoundException
                    ? "Install Debian's libldap-2.5-0."
                    : "See that the directory runs, that the base is there, and that the account may write below it; it is tried again.",
                e
            );
        }
    }

    private void Push(LdapConnection connection, IGrouping<string, PublishedFile> authority, string entry)
    {
        if (!Exists(connection, entry))
            connection.SendRequest(
                new AddRequest(
                    entry,
                    new DirectoryAttribute("objectClass", "top", "cRLDistributionPoint", "pkiCA"),
                    new DirectoryAttribute("cn", authority.Key)
                )
            );
        foreach (var (kind, attribute) in Attributes)
        {
            var values = authority.Where(f => f.Kind == kind).ToList();
            if (values.Count == 0)
                continue;
            var change = new DirectoryAttributeModification { Name = attribute, Operation = DirectoryAttributeOperation.Replace };
            foreach (var f in values)
                change.Add(f.Bytes);
            connection.SendRequest(new ModifyRequest(entry, change));
            var back = (SearchResponse)connection.SendRequest(new SearchRequest(entry, "(objectClass=*)", SearchScope.Base, attribute));
            var found = back.Entries[0].Attributes[attribute] is { } a ? a.GetValues(typeof(byte[])).Cast<byte[]>().ToList() : [];
            foreach (var f in values)
                PushPublished.Compare(f, found.FirstOrDefault(v => v.AsSpan().SequenceEqual(f.Bytes)), $"{Name}, {entry}");
        }
    }

    private static bool Exists(LdapConnection connection, string entry)
    {
        try
        {
            return ((SearchResponse)connection.SendRequest(new SearchRequest(entry, "(objectClass=*)", SearchScope.Base, "cn")))
                    .Entries
                    .Count > 0;
        }
        catch (DirectoryOperationException e) when (e.Response?.ResultCode == ResultCode.NoSuchObject)
        {
            return false;
        }
    }

    // RFC 4514 section 2.4.
    private static string Escape(string value) =>
        string.Concat(
            value.Select(
                (c, i) =>
                    ",+\"\\<>;=".Contains(c) || (c is '#' or ' ' && i == 0) || (c == ' ' && i == value.Length - 1) ? "\\" + c : c.ToString()
            )
        );
}
