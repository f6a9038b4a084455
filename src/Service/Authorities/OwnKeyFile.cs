using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>A certificate of the service's own with its key: PEM, mode 0600, in place whole or not at all.</summary>
internal static class OwnKeyFile
{
    public static void Write(string path, ReadOnlySpan<byte> certificate, ECDsa key)
    {
        var pem = Core.Formats.Armor.Write(Core.Formats.Armor.Certificate, certificate) + key.ExportPkcs8PrivateKeyPem() + "\n";
        PrivateFiles.Write(path, System.Text.Encoding.ASCII.GetBytes(pem), overwrite: true);
    }

    /// <returns>Null when it is not there or cannot be read.</returns>
    public static X509Certificate2? TryRead(string path)
    {
        try
        {
            return File.Exists(path) ? X509Certificate2.CreateFromPemFile(path) : null;
        }
        catch (CryptographicException)
        {
            return null;
        }
    }
}
