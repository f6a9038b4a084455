using OrderlyBeacon.Core.Names;

namespace OrderlyBeacon.Core.Issuing;

/// <summary>The last look before a certificate is encoded: what RFC 5280 forbids is never written, whoever asks for it.</summary>
internal static class CertificateGuard
{
    // RFC 5280 appendix A, upper bounds.
    private static readonly Dictionary<string, int> MostCharacters = new()
    {
        [Oids.CommonName] = 64,
        [Oids.Organization] = 64,
        [Oids.OrganizationalUnit] = 64,
        [Oids.Title] = 64,
        [Oids.SerialNumber] = 64,
        [Oids.Locality] = 128,
        [Oids.State] = 128,
        [Oids.EmailAddress] = 255,
    };

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.CertificateUnwritable"/>, with the first thing that is wrong.</exception>
    public static void Check(CertificateContent c)
    {
        var octets = c.Serial.Hex.StartsWith('-') ? [] : c.Serial.ToBytes();
        if (octets.Length is 0 or > 20 || octets.All(b => b == 0))
            throw Bad($"the serial number {c.Serial} is not positive, or has over 20 octets (section 4.1.2.2)");
        if (c.NotAfter < c.NotBefore)
            throw Bad($"it would end ({c.NotAfter:u}) before it begins ({c.NotBefore:u})");
        if (c.NotBefore.UtcDateTime.Year < 1950 || c.NotAfter.UtcDateTime.Year < 1950)
            throw Bad("its dates lie before 1950, which cannot be written (section 4.1.2.5)");
        if (c.Subject.IsEmpty && (c.Names.Count == 0 || c.IsAuthority))
            throw Bad("it would name nobody: neither a subject nor a name (sections 4.1.2.4 and 4.1.2.6)");
        if (c.Issuer.IsEmpty)
            throw Bad("it has no issuer (section 4.1.2.4)");
        if (c.KeyUsage.HasFlag(KeyUsages.KeyCertSign) && !c.IsAuthority)
            throw Bad("it may sign certificates and is not an authority (section 4.2.1.9)");
        if (c.ExtendedKeyUsage.Distinct().Count() != c.ExtendedKeyUsage.Count)
            throw Bad("a usage stands twice");
        foreach (var a in c.Subject.Relative.SelectMany(r => r))
            CheckAttribute(a);
        if (c.Names.FirstOrDefault(n => n.Value.Length == 0 || n.Value.Contains('\0')) is not null)
            throw Bad("a name is empty or has a NUL in it");
    }

    private static void CheckAttribute(NameAttribute a)
    {
        var key = DistinguishedName.KeyOf(a.Oid);
        if (a.Value.Length == 0 || a.Value.Contains('\0'))
            throw Bad($"{key} is empty or has a NUL in it");
        if (MostCharacters.TryGetValue(a.Oid, out var most) && a.Value.EnumerateRunes().Count() > most)
            throw Bad($"{key} has over {most} characters");
        if (a.Oid == Oids.Country && !(a.Value.Length == 2 && a.Value.All(char.IsAsciiLetter)))
            throw Bad($"C is \"{a.Value}\", which is no country code of two letters");
    }

    private static BeaconProblem Bad(string what) =>
        new(ProblemCode.CertificateUnwritable, $"No such certificate can be written: {what} (RFC 5280).", "Correct that, and ask again.");
}
