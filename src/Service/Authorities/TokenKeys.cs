using System.Formats.Asn1;
using System.Security.Cryptography;
using System.Text;
using Net.Pkcs11Interop.Common;
using Net.Pkcs11Interop.HighLevelAPI;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Keys;
using ISession = Net.Pkcs11Interop.HighLevelAPI.ISession;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>
/// Keys in a PKCS#11 token: made there, never taken out. A token that goes away in the middle is opened anew at the next use; until it is back, signing says
/// what is wrong. One session at a time is enough: a token signs one thing after another anyway.
/// </summary>
internal sealed class TokenKeys(BeaconOptions options) : IDisposable
{
    // The binding asks for the name that only development packages have.
    static TokenKeys() =>
        System.Runtime.InteropServices.NativeLibrary.SetDllImportResolver(
            typeof(Pkcs11InteropFactories).Assembly,
            (name, assembly, path) =>
                name == "libdl" && System.Runtime.InteropServices.NativeLibrary.TryLoad("libdl.so.2", out var found) ? found : 0
        );

    private readonly Lock _lock = new();
    private readonly Dictionary<string, IObjectHandle> _found = [];
    private IPkcs11Library? _library;
    private ISession? _session;
    private byte[]? _wrongPin;

    /// <summary>Makes a key pair under a label.</summary>
    public PublicKeyInfo Make(string label, KeySpec spec) =>
        Use(s =>
        {
            var a = s.Factories.ObjectAttributeFactory;
            var id = SHA256.HashData(Encoding.UTF8.GetBytes(label))[..16];
            var isRsa = spec.Algorithm == KeyAlgorithm.Rsa;
            List<IObjectAttribute> open =
            [
                a.Create(CKA.CKA_TOKEN, true),
                a.Create(CKA.CKA_PRIVATE, false),
                a.Create(CKA.CKA_LABEL, label),
                a.Create(CKA.CKA_ID, id),
                a.Create(CKA.CKA_VERIFY, true),
            ];
            if (isRsa)
                open.AddRange([a.Create(CKA.CKA_MODULUS_BITS, (ulong)spec.Bits), a.Create(CKA.CKA_PUBLIC_EXPONENT, [1, 0, 1])]);
            else
                open.Add(a.Create(CKA.CKA_EC_PARAMS, CurveOf(spec)));
            // Never out, not even wrapped: what the token has, it keeps.
            List<IObjectAttribute> closed =
            [
                a.Create(CKA.CKA_TOKEN, true),
                a.Create(CKA.CKA_PRIVATE, true),
                a.Create(CKA.CKA_SENSITIVE, true),
                a.Create(CKA.CKA_EXTRACTABLE, false),
                a.Create(CKA.CKA_LABEL, label),
                a.Create(CKA.CKA_ID, id),
                a.Create(CKA.CKA_SIGN, true),
            ];
            s.GenerateKeyPair(
                s.Factories.MechanismFactory.Create(isRsa ? CKM.CKM_RSA_PKCS_KEY_PAIR_GEN : CKM.CKM_EC_KEY_PAIR_GEN),
                open,
                closed,
                out var made,
                out _
            );
            var values = s.GetAttributeValue(made, isRsa ? [CKA.CKA_MODULUS, CKA.CKA_PUBLIC_EXPONENT] : new List<CKA> { CKA.CKA_EC_POINT });
            return isRsa
                ? Rsa(values[0].GetValueAsByteArray(), values[1].GetValueAsByteArray())
                : Ec(spec, values[0].GetValueAsByteArray());
        });

    /// <summary>A signature over a to-be-signed structure.</summary>
    public byte[] Sign(string label, PublicKeyInfo key, SignatureScheme scheme, ReadOnlySpan<byte> tbs)
    {
        var hashName = KeySigner.HashOf(scheme);
        var hash = CryptographicOperations.HashData(hashName, tbs);
        return Use(s =>
        {
            if (!_found.TryGetValue(label, out var handle))
            {
                var a = s.Factories.ObjectAttributeFactory;
                handle = _found[label] =
                    s.FindAllObjects([a.Create(CKA.CKA_CLASS, CKO.CKO_PRIVATE_KEY), a.Create(CKA.CKA_LABEL, label)]).FirstOrDefault()
                    ?? throw new BeaconProblem(
                        ProblemCode.AuthorityNotReady,
                        $"The token \"{options.TokenLabel}\" has no key \"{label}\".",
                        "Put in the token that has it, or restore its backup."
                    );
            }
            if (scheme == SignatureScheme.RsaPss)
                return s.Sign(
                    s.Factories.MechanismFactory.Create(
                        CKM.CKM_RSA_PKCS_PSS,
                        s.Factories.MechanismParamsFactory.CreateCkRsaPkcsPssParams(
                            (ulong)CKM.CKM_SHA256,
                            (ulong)CKG.CKG_MGF1_SHA256,
                            Signatures.PssSalt
                        )
                    ),
                    handle,
                    hash
                );
            if (key.Spec.Algorithm == KeyAlgorithm.Rsa)
                return s.Sign(s.Factories.MechanismFactory.Create(CKM.CKM_RSA_PKCS), handle, DigestInfo(hash));
            var raw = s.Sign(s.Factories.MechanismFactory.Create(CKM.CKM_ECDSA), handle, hash);
            return DerOf(raw);
        });
    }

    private T Use<T>(Func<ISession, T> work)
    {
        lock (_lock)
        {
            try
            {
                return work(_session ??= Open());
            }
            catch (Exception e)
                when (e
                        is Pkcs11Exception
                            or UnmanagedException
                            or LibraryArchitectureException
                            or InvalidOperationException
                            or IOException
                            or UnauthorizedAccessException
                )
            {
                Close();
                throw new BeaconProblem(
                    ProblemCode.AuthorityNotReady,
                    $"The token \"{options.TokenLabel}\" cannot be used: {Why(e)}",
                    "Put the token back, and see that its service runs. What waits goes on by itself then.",
                    e
                );
            }
            catch (BeaconProblem)
            {
                // The next use begins with the token as it is then.
                Close();
                throw;
            }
        }
    }

    private static string Why(Exception e) =>
        e is Pkcs11Exception p
            ? p.RV switch
            {
                CKR.CKR_DEVICE_REMOVED or CKR.CKR_TOKEN_NOT_PRESENT => "it was taken out.",
                CKR.CKR_PIN_INCORRECT => "its PIN is wrong.",
                CKR.CKR_PIN_LOCKED => "its PIN is locked after too many wrong ones.",
                _ => $"its module answers {p.RV}.",
            }
            : e.Message;

    private ISession Open()
    {
        var factories = new Pkcs11InteropFactories();
        _library = factories.Pkcs11LibraryFactory.LoadPkcs11Library(factories, options.TokenModule, AppType.MultiThreaded);
        var slot =
            _library
                .GetSlotList(SlotsType.WithTokenPresent)
                .FirstOrDefault(s => s.GetTokenInfo() is { } t && t.TokenFlags.TokenInitialized && t.Label.TrimEnd() == options.TokenLabel)
            ?? throw new BeaconProblem(
                ProblemCode.AuthorityNotReady,
                $"The token \"{options.TokenLabel}\" is not there.",
                "Put it in, and see that its service runs. What waits goes on by itself then."
            );
        var session = slot.OpenSession(SessionType.ReadWrite);
        var pin = Pin();
        var mark = SHA256.HashData(pin);
        // A token locks itself after a few wrong PINs: one that was wrong is not tried again.
        if (_wrongPin is not null && mark.AsSpan().SequenceEqual(_wrongPin))
            throw new BeaconProblem(
                ProblemCode.AuthorityNotReady,
                $"The PIN of the token \"{options.TokenLabel}\" is wrong; it is not tried again, so that the token does not lock itself.",
                "Put the right PIN into its file; it is used at once."
            );
        try
        {
            session.Login(CKU.CKU_USER, pin);
        }
        catch (Pkcs11Exception e) when (e.RV == CKR.CKR_PIN_INCORRECT)
        {
            _wrongPin = mark;
            throw;
        }
        return session;
    }

    private byte[] Pin()
    {
        var credentials = Environment.GetEnvironmentVariable("CREDENTIALS_DIRECTORY");
        var file =
            credentials is { Length: > 0 } && File.Exists(Path.Combine(credentials, "beacon-token-pin"))
                ? Path.Combine(credentials, "beacon-token-pin")
                : options.TokenPinFile;
        if (file.Length == 0)
            throw new BeaconProblem(
                ProblemCode.AuthorityNotReady,
                "The place of the token's PIN is not set.",
                "Set TokenPinFile, or give the systemd credential beacon-token-pin."
            );
        return Encoding.UTF8.GetBytes(File.ReadAllText(file).Trim());
    }

    private void Close()
    {
        _found.Clear();
        try
        {
            _session?.Dispose();
        }
        catch (Exception e) when (e is Pkcs11Exception or UnmanagedException) { }
        try
        {
            _library?.Dispose();
        }
        catch (Exception e) when (e is Pkcs11Exception or UnmanagedException) { }
        (_session, _library) = (null, null);
    }

    public void Dispose()
    {
        lock (_lock)
            Close();
    }

    private static byte[] CurveOf(KeySpec spec)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        w.WriteObjectIdentifier(
            spec.Bits switch
            {
                384 => "1.3.132.0.34",
                521 => "1.3.132.0.35",
                _ => "1.2.840.10045.3.1.7",
            }
        );
        return w.Encode();
    }

    private static PublicKeyInfo Ec(KeySpec spec, byte[] wrapped)
    {
        // The point is wrapped in an OCTET STRING (PKCS#11 section 2.3.3): 04, x, y.
        var point = AsnDecoder.ReadOctetString(wrapped, AsnEncodingRules.BER, out _);
        var size = (point.Length - 1) / 2;
        using var key = ECDsa.Create(
            new ECParameters
            {
                Curve = spec.Bits switch
                {
                    384 => ECCurve.NamedCurves.nistP384,
                    521 => ECCurve.NamedCurves.nistP521,
                    _ => ECCurve.NamedCurves.nistP256,
                },
                Q = new() { X = point[1..(1 + size)], Y = point[(1 + size)..] },
            }
        );
        return PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo());
    }

    private static PublicKeyInfo Rsa(byte[] modulus, byte[] exponent)
    {
        using var key = RSA.Create(new RSAParameters { Modulus = modulus, Exponent = exponent });
        return PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo());
    }

    // EMSA-PKCS1-v1_5 of SHA-256 (RFC 8017 section 9.2, note 1).
    private static byte[] DigestInfo(byte[] hash) =>
        [0x30, 0x31, 0x30, 0x0d, 0x06, 0x09, 0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x01, 0x05, 0x00, 0x04, 0x20, .. hash];

    /// <summary>r and s side by side become the SEQUENCE that certificates hold (RFC 3279 section 2.2.3).</summary>
    private static byte[] DerOf(byte[] raw)
    {
        var w = new AsnWriter(AsnEncodingRules.DER);
        using (w.PushSequence())
        {
            w.WriteIntegerUnsigned(Trim(raw.AsSpan(0, raw.Length / 2)));
            w.WriteIntegerUnsigned(Trim(raw.AsSpan(raw.Length / 2)));
        }
        return w.Encode();

        static ReadOnlySpan<byte> Trim(ReadOnlySpan<byte> n)
        {
            while (n.Length > 1 && n[0] == 0)
                n = n[1..];
            return n;
        }
    }
}
