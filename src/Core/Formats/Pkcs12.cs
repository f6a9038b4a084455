using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace OrderlyBeacon.Core.Formats;

/// <summary>PKCS#12 files (RFC 7292), by the platform's encoder: AES-256 with SHA-256 and 100,000 rounds.</summary>
public static class Pkcs12
{
    /// <summary>Packs a leaf, its chain and optionally its key.</summary>
    /// <param name="chain">Leaf first.</param>
    /// <param name="key">The leaf's private key, or null for certificates alone.</param>
    public static byte[] Write(IReadOnlyList<ReadOnlyMemory<byte>> chain, AsymmetricAlgorithm? key, string password)
    {
        var all = new X509Certificate2Collection();
        try
        {
            for (var i = 0; i < chain.Count; i++)
            {
                var c = X509CertificateLoader.LoadCertificate(chain[i].Span);
                if (i == 0 && key is not null)
                {
                    using var bare = c;
                    c = key is ECDsa ec ? bare.CopyWithPrivateKey(ec) : bare.CopyWithPrivateKey((RSA)key);
                }
                all.Add(c);
            }
            return all.ExportPkcs12(new PbeParameters(PbeEncryptionAlgorithm.Aes256Cbc, HashAlgorithmName.SHA256, 100_000), password);
        }
        finally
        {
            foreach (var c in all)
                c.Dispose();
        }
    }
}
