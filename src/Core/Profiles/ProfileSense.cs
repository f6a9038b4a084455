using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;

namespace OrderlyBeacon.Core.Profiles;

/// <summary>Something in a profile that makes no sense.</summary>
/// <param name="Field">As it is called in the profile's file.</param>
public sealed record ProfileFault(string Field, string Reason, string Cure);

/// <summary>Whether a profile makes sense, before it is ever used.</summary>
public static class ProfileSense
{
    /// <param name="authorityLife">The whole life of the authority's certificate: nothing it issues can live longer.</param>
    /// <param name="authorityDepth">How many authorities may stand below the authority; null sets no bound.</param>
    /// <returns>All that is wrong; empty when it makes sense.</returns>
    public static IReadOnlyList<ProfileFault> Faults(Profile p, TimeSpan? authorityLife, int? authorityDepth)
    {
        var check = new Check(p);
        check.Words();
        check.Life(authorityLife);
        check.Keys();
        if (p.AuthorityDepth is { } depth)
            check.Authority(depth, authorityDepth);
        else
            check.Holder();
        check.Usages();
        return check.Faults;
    }

    /// <summary>Collects what is wrong with one profile.</summary>
    private sealed class Check(Profile p)
    {
        private readonly List<ProfileFault> _faults = [];

        public IReadOnlyList<ProfileFault> Faults => _faults;

        private bool Certifies => p.KeyUsage.HasFlag(KeyUsages.KeyCertSign);

        private void Bad(string field, string reason, string cure) => _faults.Add(new(field, reason, cure));

        public void Words()
        {
            if (
                p.Id.Length is 0 or > 40
                || !p.Id.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c == '-')
                || !char.IsAsciiLetterLower(p.Id[0])
            )
                Bad(
                    "id",
                    $"\"{p.Id}\" cannot be a profile's short name.",
                    "Use small letters, digits and hyphens, beginning with a letter."
                );
            if (p.Title.Trim().Length is 0 or > 80)
                Bad("title", "The title is empty or has over 80 characters.", "Give a short title.");
            if (p.Purpose.Length > 400)
                Bad("purpose", "The purpose has over 400 characters.", "Say it in a sentence.");
        }

        public void Life(TimeSpan? authorityLife)
        {
            if (p.Life < TimeSpan.FromSeconds(20))
                Bad("life", "A life under 20 seconds is over before anybody has the certificate.", "Give a longer one.");
            if (authorityLife is { } most && p.Life > most)
                Bad(
                    "life",
                    $"A life of {p.Life.TotalDays:0} days is longer than the authority's own, {most.TotalDays:0} days: it would always be cut short.",
                    "Give a shorter life."
                );
        }

        public void Keys()
        {
            if (p.Keys.Count == 0)
                Bad("keys", "No kind of key is allowed, so nothing could be asked for.", "Allow at least one, as ec-p256.");
            if (p.KeyUsage == KeyUsages.None)
                Bad("keyUsage", "No key usage is given.", "Give at least digital-signature.");
            if (p.Keys.Count > 0 && p.Keys.All(k => p.KeyUsageFor(k) == KeyUsages.None))
                Bad(
                    "keyUsage",
                    "With the allowed kinds of keys nothing of the usage is left: elliptic keys do not encipher (RFC 8813).",
                    "Add digital-signature, or allow RSA keys."
                );
            if (p.Approvals is < 0 or > 2)
                Bad("approvals", "Approvals must be 0, 1 or 2.", "Give 0, 1 or 2.");
            if (p.Names.Most is < 1 or > 250)
                Bad("names.most", $"{p.Names.Most} names cannot be the bound.", "Give 1 to 250.");
            foreach (var oid in p.ExtendedKeyUsage.Where(o => !IsOid(o)))
                Bad(
                    "extendedKeyUsage",
                    $"\"{oid}\" is no object identifier.",
                    "Write it as numbers with dots, or one of the words tls-server, tls-client, ocsp-signing."
                );
        }

        /// <summary>A profile that makes authorities.</summary>
        public void Authority(int depth, int? authorityDepth)
        {
            if (!Certifies)
                Bad(
                    "keyUsage",
                    "An authority that may not sign certificates is none (RFC 5280 section 4.2.1.9).",
                    "Add key-cert-sign, or leave authorityDepth out."
                );
            if (p.ExtendedKeyUsage.Count > 0)
                Bad(
                    "extendedKeyUsage",
                    "An authority's certificate with an extended usage binds everything below it to that usage.",
                    "Leave it empty."
                );
            if (p.Approvals == 0)
                Bad("approvals", "An authority that nobody approved could issue anything.", "Ask for at least 1.");
            if (authorityDepth is { } room && depth >= room)
                Bad(
                    "authorityDepth",
                    room == 0
                        ? "The authority's own certificate allows no authorities below it."
                        : $"The authority's own certificate allows {room} below it, so one below it may have at most {room - 1}.",
                    room == 0
                        ? "Withdraw this profile here, or have the authority renewed with a path length."
                        : $"Give {room - 1} or less."
                );
            if (p.Names.Any)
                Bad("names", "An authority is known by its subject, and needs no host names.", "Allow no names.");
        }

        /// <summary>A profile for whoever is no authority.</summary>
        public void Holder()
        {
            if (Certifies)
                Bad(
                    "keyUsage",
                    p.ExtendedKeyUsage.Contains(Oids.ServerAuth) || p.ExtendedKeyUsage.Contains(Oids.ClientAuth)
                        ? "A server or client that may sign certificates could certify anything."
                        : "Signing certificates is for authorities alone (RFC 5280 section 4.2.1.3).",
                    "Take key-cert-sign out, or say with authorityDepth that it makes authorities."
                );
            if (p.KeyUsage.HasFlag(KeyUsages.CrlSign))
                Bad("keyUsage", "Signing CRLs is for authorities alone.", "Take crl-sign out.");
            if (!p.Names.Any && p.Use == ProfileUse.People)
                Bad("names", "No name is allowed, so nothing could be asked for.", "Allow host names or addresses.");
        }

        public void Usages()
        {
            if (p.Names is { Wildcards: true, HostNames: false })
                Bad("names", "Wildcards are allowed, host names are not.", "Allow host names too.");
            if (p.ExtendedKeyUsage.Contains(Oids.BeaconService) && p.Use != ProfileUse.Service)
                Bad(
                    "extendedKeyUsage",
                    "That usage is the mark of this service itself: whoever had it could take the service's place.",
                    "Leave it out."
                );
            if (p.ExtendedKeyUsage.Distinct().Count() != p.ExtendedKeyUsage.Count)
                Bad("extendedKeyUsage", "A usage stands twice.", "Name each once.");
            if (p.ExtendedKeyUsage.Contains(Oids.OcspSigning) && (p.ExtendedKeyUsage.Count > 1 || p.Use != ProfileUse.Service))
                Bad(
                    "extendedKeyUsage",
                    "Who may sign OCSP answers could call any certificate good.",
                    "Leave that to the profile of the service's own responder."
                );
            if (
                p.ExtendedKeyUsage.Contains(Oids.ServerAuth)
                && !p.KeyUsage.HasFlag(KeyUsages.DigitalSignature)
                && p.Keys.Any(k => k.Algorithm != KeyAlgorithm.Rsa)
            )
                Bad(
                    "keyUsage",
                    "A TLS server with an elliptic key signs the handshake, which this usage does not allow.",
                    "Add digital-signature."
                );
            if (p.Subject == SubjectSource.Empty && !p.Names.Any)
                Bad(
                    "subject",
                    "Neither a subject nor a name would be in the certificate.",
                    "Allow names, or take the subject from the request."
                );
        }
    }

    private static bool IsOid(string text) =>
        text.Length is >= 3 and <= 100
        && text.Split('.') is { Length: >= 2 } parts
        && parts.All(x => x.Length is > 0 and < 40 && x.All(char.IsAsciiDigit) && (x.Length == 1 || x[0] != '0'))
        && parts[0] is "0" or "1" or "2"
        && (parts[0] == "2" || parts[1].Length <= 2 && int.Parse(parts[1]) < 40);

    /// <summary>What differs between two revisions, field by field; values as they stand in the profile's file.</summary>
    public static IReadOnlyList<(string Field, string Before, string After)> Differences(
        IReadOnlyList<(string Field, string Value)> before,
        IReadOnlyList<(string Field, string Value)> after
    ) =>
        [
            .. before
                .Select(b => (b.Field, b.Value, After: after.FirstOrDefault(a => a.Field == b.Field).Value ?? ""))
                .Where(d => d.Value != d.After),
            .. after.Where(a => before.All(b => b.Field != a.Field)).Select(a => (a.Field, "", a.Value)),
        ];
}
