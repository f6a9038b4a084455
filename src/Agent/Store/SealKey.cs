using System.Security.Cryptography;
using System.Text;
using OrderlyBeacon.Core.Formats;

namespace OrderlyBeacon.Agent.Store;

/// <summary>The key that what only this agent may read is sealed to: <c>seal.key</c>, made once, mode 0600. Whoever carries it, the service too, cannot read it.</summary>
internal sealed class SealKey(string state)
{
    private string PathOf => Path.Combine(state, "seal.key");

    public string Public()
    {
        using var key = Load();
        return Convert.ToBase64String(Sealing.PublicKeyOf(key));
    }

    public byte[] Open(string purpose, string sealedText)
    {
        using var key = Load();
        return Sealing.Open(key, purpose, Bytes(sealedText));
    }

    /// <exception cref="Core.BeaconProblem"><see cref="Core.ProblemCode.InputInvalid"/>: it is not Base64.</exception>
    public static byte[] Bytes(string base64)
    {
        try
        {
            return Convert.FromBase64String(base64);
        }
        catch (FormatException e)
        {
            throw new Core.BeaconProblem(Core.ProblemCode.InputInvalid, "What was sealed is not Base64.", "Do it again.", e);
        }
    }

    private ECDiffieHellman Load()
    {
        if (!File.Exists(PathOf))
        {
            using var made = Sealing.NewKey();
            AtomicFiles.Write(PathOf, Encoding.ASCII.GetBytes(made.ExportPkcs8PrivateKeyPem() + "\n"), isPrivate: true);
        }
        var key = ECDiffieHellman.Create();
        key.ImportFromPem(File.ReadAllText(PathOf));
        return key;
    }
}
