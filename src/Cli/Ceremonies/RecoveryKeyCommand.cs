using System.CommandLine;
using System.Security.Cryptography;
using System.Text;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Ceremonies;

/// <summary>
/// Makes the key that backups are sealed to, on a machine that is not the service's. The certificate goes to the service; the private half stays away from it, encrypted,
/// and is needed to restore.
/// </summary>
internal static class RecoveryKeyCommand
{
    private static readonly PbeParameters Sealed = new(PbeEncryptionAlgorithm.Aes256Cbc, HashAlgorithmName.SHA256, 600_000);

    public static Command Make()
    {
        var folder = new Argument<string>("folder") { Description = "Where its two files are written; made when it is not there." };
        var name = new Option<string>("--name")
        {
            Description = "What it is called, to tell it from others.",
            DefaultValueFactory = _ => "Recovery",
        };
        var c = new Command(
            "recovery-key",
            "Make a key that backups are sealed to. On another machine than the service's: only its certificate goes there."
        )
        {
            folder,
            name,
            Secrets.PassphraseFd,
        };
        c.Does(
            (r, _) =>
            {
                var passphrase = Secrets.Passphrase(r, "Passphrase for the recovery key: ", twice: true);
                if (passphrase.Length < 12)
                    throw new BeaconProblem(
                        ProblemCode.InputInvalid,
                        "The passphrase has under 12 characters.",
                        "Take a longer one, for example five words: with the key and a backup, everything can be restored anywhere."
                    );
                var (certificate, key) = Write(r.GetValue(folder)!, r.GetValue(name)!, passphrase);
                Line($"Written: {key}. It is needed to restore; keep it away from the service, and its passphrase away from it.");
                Line(
                    $"Written: {certificate}. Carry it to the service and name it there: BEACON_RECOVERYCERTIFICATES={Path.GetFullPath(certificate)}"
                );
                return Task.FromResult(ExitCodes.Done);
            }
        );
        return c;
    }

    private static (string Certificate, string Key) Write(string folder, string name, string passphrase)
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP384);
        var now = DateTimeOffset.UtcNow;
        var subject = DistinguishedName.ForCommonName(name);
        var signer = new KeySigner(key);
        var der = CertificateWriter.Issue(
            new CertificateContent
            {
                Serial = SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16)),
                Issuer = subject,
                Subject = subject,
                PublicKey = signer.PublicKey,
                NotBefore = now.AddMinutes(-5),
                NotAfter = now.AddYears(30),
                KeyUsage = KeyUsages.KeyAgreement,
            },
            signer
        );
        Directory.CreateDirectory(folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        var keyFile = Path.Combine(folder, TellingName.Of("recovery-key", name, now));
        var certificateFile = Path.Combine(folder, TellingName.Of("recovery-certificate", name, now));
        WriteNew(keyFile, key.ExportEncryptedPkcs8PrivateKeyPem(passphrase, Sealed) + "\n", UnixFileMode.UserRead | UnixFileMode.UserWrite);
        WriteNew(
            certificateFile,
            Armor.Write(Armor.Certificate, der),
            UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.GroupRead | UnixFileMode.OtherRead
        );
        return (certificateFile, keyFile);
    }

    private static void WriteNew(string path, string text, UnixFileMode mode)
    {
        var options = new FileStreamOptions
        {
            Mode = FileMode.CreateNew,
            Access = FileAccess.Write,
            UnixCreateMode = mode,
        };
        using var file = new FileStream(path, options);
        file.Write(Encoding.ASCII.GetBytes(text));
        file.Flush(flushToDisk: true);
    }
}
