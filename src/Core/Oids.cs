namespace OrderlyBeacon.Core;

/// <summary>Object identifiers by their names in the standards named beside them.</summary>
public static class Oids
{
    // RFC 5280 section 4.2
    public const string SubjectKeyIdentifier = "2.5.29.14";
    public const string KeyUsage = "2.5.29.15";
    public const string SubjectAltName = "2.5.29.17";
    public const string BasicConstraints = "2.5.29.19";
    public const string CrlNumber = "2.5.29.20";
    public const string ReasonCode = "2.5.29.21";
    public const string DeltaCrlIndicator = "2.5.29.27";
    public const string IssuingDistributionPoint = "2.5.29.28";
    public const string NameConstraints = "2.5.29.30";
    public const string CrlDistributionPoints = "2.5.29.31";
    public const string CertificatePolicies = "2.5.29.32";
    public const string PolicyMappings = "2.5.29.33";
    public const string PolicyConstraints = "2.5.29.36";
    public const string InhibitAnyPolicy = "2.5.29.54";
    public const string AuthorityKeyIdentifier = "2.5.29.35";
    public const string ExtendedKeyUsage = "2.5.29.37";
    public const string FreshestCrl = "2.5.29.46";
    public const string AuthorityInfoAccess = "1.3.6.1.5.5.7.1.1";
    public const string TlsFeatures = "1.3.6.1.5.5.7.1.24";
    public const string CaIssuers = "1.3.6.1.5.5.7.48.2";
    public const string Ocsp = "1.3.6.1.5.5.7.48.1";

    // RFC 6960 section 4
    public const string OcspBasic = "1.3.6.1.5.5.7.48.1.1";
    public const string OcspNonce = "1.3.6.1.5.5.7.48.1.2";
    public const string OcspNoCheck = "1.3.6.1.5.5.7.48.1.5";
    public const string OcspSigning = "1.3.6.1.5.5.7.3.9";
    public const string Sha1 = "1.3.14.3.2.26";
    public const string Sha384 = "2.16.840.1.101.3.4.2.2";
    public const string Sha512 = "2.16.840.1.101.3.4.2.3";
    public const string Sha256 = "2.16.840.1.101.3.4.2.1";

    public const string ServerAuth = "1.3.6.1.5.5.7.3.1";
    public const string ClientAuth = "1.3.6.1.5.5.7.3.2";
    public const string AnyExtendedKeyUsage = "2.5.29.37.0";

    /// <summary>
    /// The mark of the service's own certificate, a usage that no profile for people can have: agents and clients speak to nobody without it. Under the arc for
    /// identifiers made from a UUID (ITU-T X.667).
    /// </summary>
    public const string BeaconService = "2.25.211659387337251562968217015217652032420";

    // RFC 2985, RFC 2986
    public const string ExtensionRequest = "1.2.840.113549.1.9.14";
    public const string SignedData = "1.2.840.113549.1.7.2";
    public const string Data = "1.2.840.113549.1.7.1";

    // RFC 8017, RFC 3279, RFC 5758, RFC 8410
    public const string Rsa = "1.2.840.113549.1.1.1";
    public const string Mgf1 = "1.2.840.113549.1.1.8";
    public const string RsaPss = "1.2.840.113549.1.1.10";
    public const string Sha1Rsa = "1.2.840.113549.1.1.5";
    public const string Md5Rsa = "1.2.840.113549.1.1.4";
    public const string Sha256Rsa = "1.2.840.113549.1.1.11";
    public const string Sha384Rsa = "1.2.840.113549.1.1.12";
    public const string Sha512Rsa = "1.2.840.113549.1.1.13";
    public const string EcPublicKey = "1.2.840.10045.2.1";
    public const string Sha1Ecdsa = "1.2.840.10045.4.1";
    public const string Sha256Ecdsa = "1.2.840.10045.4.3.2";
    public const string Sha384Ecdsa = "1.2.840.10045.4.3.3";
    public const string Sha512Ecdsa = "1.2.840.10045.4.3.4";
    public const string P256 = "1.2.840.10045.3.1.7";
    public const string P384 = "1.3.132.0.34";
    public const string P521 = "1.3.132.0.35";
    public const string Ed25519 = "1.3.101.112";

    // X.520, RFC 4519
    public const string CommonName = "2.5.4.3";
    public const string Surname = "2.5.4.4";
    public const string SerialNumber = "2.5.4.5";
    public const string Country = "2.5.4.6";
    public const string Locality = "2.5.4.7";
    public const string State = "2.5.4.8";
    public const string Street = "2.5.4.9";
    public const string Organization = "2.5.4.10";
    public const string OrganizationalUnit = "2.5.4.11";
    public const string Title = "2.5.4.12";
    public const string GivenName = "2.5.4.42";
    public const string EmailAddress = "1.2.840.113549.1.9.1";
    public const string UserId = "0.9.2342.19200300.100.1.1";
    public const string DomainComponent = "0.9.2342.19200300.100.1.25";
}
