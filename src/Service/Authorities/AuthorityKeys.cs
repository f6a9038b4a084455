using System.Security.Cryptography;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Keys;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>
/// The only class that touches authority keys. They are in a PKCS#11 token where one is configured; else they lie in the keys folder as encrypted PKCS#8, mode 0600,
/// and the key-encryption key lies beside them, or comes as a systemd credential named <c>beacon-key-encryption</c>.
/// </summary>
public sealed class AuthorityKeys(BeaconOptions options) : IDisposable
{
    private const string InToken = "token:";

    // The binding to tokens is loaded only where there is one.
    private readonly Lazy<TokenKeys> _token = new(() => new(options));

    // The password is 256 random bits, so few rounds are enough.
    private static readonly PbeParameters Online = new(PbeEncryptionAlgorithm.Aes256Cbc, HashAlgorithmName.SHA256, 2_000);
    private static readonly PbeParameters Sealed = new(PbeEncryptionAlgorithm.Aes256Cbc, HashAlgorithmName.SHA256, 600_000);

    private bool Pss => options.AuthoritySignature == "pss";

    private string Folder => Path.Combine(options.Data, "keys");

    /// <summary>What a new key will be called: a file, or an object in the token.</summary>
    public string NameFor(string stem) => options.TokenModule.Length > 0 ? InToken + stem : stem + ".key.pem";

    /// <summary>Makes a key and keeps it; returns its signer.</summary>
    /// <param name="name">From <see cref="NameFor"/>.</param>
    public ISigner Make(string name, KeySpec spec)
    {
        if (name.StartsWith(InToken, StringComparison.Ordinal))
            return Open(name, _token.Value.Make(name[InToken.Length..], spec));
        var key = KeySigner.NewKey(spec);
        PrivateFiles.WriteNew(Path.Combine(Folder, name), key.ExportEncryptedPkcs8PrivateKeyPem(KeyEncryptionKey(), Online));
        return new KeySigner(key, Pss);
    }

    /// <summary>Makes a key that is not kept here: it is written once, sealed, for the operator to take away.</summary>
    /// <param name="passphrase">Made here; to be kept apart from the file.</param>
    public ISigner MakeSealed(string path, KeySpec spec, string passphrase)
    {
        var key = KeySigner.NewKey(spec);
        PrivateFiles.WriteNew(path, key.ExportEncryptedPkcs8PrivateKeyPem(passphrase, Sealed));
        return new KeySigner(key, Pss);
    }

    private readonly System.Collections.Concurrent.ConcurrentDictionary<string, KeptKey> _open = [];

    /// <summary>The signer of a kept key. The file is opened when it is first needed; while it cannot be, signing says why, and is tried anew at each use.</summary>
    /// <param name="expected">The public key in the certificate.</param>
    public ISigner Open(string fileName, PublicKeyInfo expected) => _open.GetOrAdd(fileName, f => new KeptKey(this, f, expected));

    /// <summary>Why keys could not be used when they were needed last.</summary>
    public IEnumerable<BeaconProblem> Faults => _open.Values.Select(k => k.Fault).OfType<BeaconProblem>();

    /// <summary>Reads the key from its file anew and signs something with it: whether it is usable now. Null when it is.</summary>
    public BeaconProblem? Try(string fileName, PublicKeyInfo expected)
    {
        try
        {
            byte[] probe = [0x30, 0x00];
            var signature = fileName.StartsWith(InToken, StringComparison.Ordinal)
                ? _token.Value.Sign(fileName[InToken.Length..], expected, KeySigner.SchemeOf(expected.Spec, Pss), probe)
                : Load(fileName, expected).Sign(probe);
            return Signatures.Verify(expected, KeySigner.SchemeOf(expected.Spec, Pss), probe, signature)
                ? null
                : new(
                    ProblemCode.AuthorityNotReady,
                    $"The authority's key {fileName} signs, but its signatures do not hold.",
                    "Put the file back from the backup."
                );
        }
        catch (BeaconProblem p)
        {
            return p;
        }
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.AuthorityNotReady"/> when the file or its encryption key is missing or altered.</exception>
    private KeySigner Load(string fileName, PublicKeyInfo expected)
    {
        var path = Path.Combine(Folder, fileName);
        try
        {
            var pem = File.ReadAllText(path);
            AsymmetricAlgorithm key = expected.Spec.Algorithm == KeyAlgorithm.Rsa ? RSA.Create() : ECDsa.Create();
            key.ImportFromEncryptedPem(pem, KeyEncryptionKey());
            var signer = new KeySigner(key, Pss);
            return signer.PublicKey.SameKey(expected)
                ? signer
                : throw new BeaconProblem(
                    ProblemCode.AuthorityNotReady,
                    $"The file {path} holds another key than the authority's certificate.",
                    "Put the file back from the backup."
                );
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new BeaconProblem(
                ProblemCode.AuthorityNotReady,
                $"The authority's key {path} cannot be read: {e.Message}",
                "Put the file back from the backup, readable by the service's account alone.",
                e
            );
        }
        catch (Exception e) when (e is CryptographicException or ArgumentException)
        {
            throw new BeaconProblem(
                ProblemCode.AuthorityNotReady,
                $"The authority's key {path} does not open with the key-encryption key.",
                "Put both files back from the same backup.",
                e
            );
        }
    }

    private sealed class KeptKey(AuthorityKeys keys, string fileName, PublicKeyInfo expected) : ISigner
    {
        private volatile KeySigner? _signer;

        // The kind of key decides the scheme, so that nothing has to be opened for it.
        public SignatureScheme Scheme { get; } = KeySigner.SchemeOf(expected.Spec, keys.Pss);
        public PublicKeyInfo PublicKey => expected;

        public BeaconProblem? Fault { get; private set; }

        public byte[] Sign(ReadOnlySpan<byte> tbs)
        {
            try
            {
                var signature = fileName.StartsWith(InToken, StringComparison.Ordinal)
                    ? keys._token.Value.Sign(fileName[InToken.Length..], expected, Scheme, tbs)
                    : (_signer ??= keys.Load(fileName, expected)).Sign(tbs);
                Fault = null;
                return signature;
            }
            catch (BeaconProblem p)
            {
                Fault = p;
                throw;
            }
        }
    }

    public void Dispose()
    {
        if (_token.IsValueCreated)
            _token.Value.Dispose();
    }

    private string KeyEncryptionKey()
    {
        if (
            Environment.GetEnvironmentVariable("CREDENTIALS_DIRECTORY") is { Length: > 0 } credentials
            && File.Exists(Path.Combine(credentials, "beacon-key-encryption"))
        )
            return File.ReadAllText(Path.Combine(credentials, "beacon-key-encryption")).Trim();
        var path = Path.Combine(Folder, "key-encryption.key");
        if (!File.Exists(path))
            PrivateFiles.WriteNew(path, Convert.ToBase64String(RandomNumberGenerator.GetBytes(32)));
        return File.ReadAllText(path).Trim();
    }
}

/// <summary>Files that only the service's account may read.</summary>
internal static class PrivateFiles
{
    /// <summary>Never over an existing one.</summary>
    public static void WriteNew(string path, string text) => Write(path, System.Text.Encoding.UTF8.GetBytes(text), overwrite: false);

    /// <summary>Writes through to the disk, then puts the file in place at once.</summary>
    public static void Write(string path, ReadOnlySpan<byte> bytes, bool overwrite)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(path)!, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        var temporary = path + ".new";
        File.Delete(temporary);
        using (
            var f = new FileStream(
                temporary,
                new FileStreamOptions
                {
                    Mode = FileMode.CreateNew,
                    Access = FileAccess.Write,
                    UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
                }
            )
        )
        {
            f.Write(bytes);
            f.Flush(flushToDisk: true);
        }
        File.Move(temporary, path, overwrite);
    }
}
