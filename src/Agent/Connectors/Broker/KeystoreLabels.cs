using System.Formats.Asn1;
using System.Security.Cryptography;
using System.Security.Cryptography.Pkcs;

namespace OrderlyBeacon.Agent.Connectors.Broker;

/// <summary>Who carries which label in a PKCS#12 keystore (RFC 7292, section 4.2; the label is the friendly name of PKCS#9).</summary>
internal static class KeystoreLabels
{
    private const string FriendlyName = "1.2.840.113549.1.9.20";
    private const int MostBags = 1000;

    /// <summary>How many keys carry a label; null when the keystore cannot be opened.</summary>
    public static int? Holders(byte[] keystore, string passphrase, string label)
    {
        try
        {
            var store = Pkcs12Info.Decode(keystore, out _);
            if (store.IntegrityMode != Pkcs12IntegrityMode.Password || !store.VerifyMac(passphrase))
                return null;
            var count = 0;
            foreach (var safe in store.AuthenticatedSafe)
            {
                if (safe.ConfidentialityMode == Pkcs12ConfidentialityMode.Password)
                    safe.Decrypt(passphrase);
                count += safe.GetBags().Take(MostBags).Count(b => b is Pkcs12KeyBag or Pkcs12ShroudedKeyBag && LabelOf(b) == label);
            }
            return count;
        }
        catch (Exception e) when (e is CryptographicException or AsnContentException or InvalidOperationException)
        {
            return null;
        }
    }

    private static string? LabelOf(Pkcs12SafeBag bag)
    {
        foreach (var attribute in bag.Attributes)
            if (attribute.Oid.Value == FriendlyName && attribute.Values.Count > 0)
                return AsnDecoder.ReadCharacterString(
                    attribute.Values[0].RawData,
                    AsnEncodingRules.BER,
                    UniversalTagNumber.BMPString,
                    out _
                );
        return null;
    }
}
