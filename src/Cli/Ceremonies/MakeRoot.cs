using System.CommandLine;
using System.Security.Cryptography;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using static OrderlyBeacon.Cli.Ceremonies.RootOptions;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Ceremonies;

/// <summary>Founds a root, or takes one in that was founded elsewhere.</summary>
internal static class MakeRoot
{
    public static Command Found()
    {
        var name = new Option<string>("--name")
        {
            Description = "The root's name, as in \"CN=Thistledown Root, O=Thistledown Rail\". It is for ever.",
            Required = true,
        };
        var key = new Option<string>("--key") { Description = "Kind of key.", DefaultValueFactory = _ => "ec-p384" };
        var life = new Option<string>("--life") { Description = "Its life.", DefaultValueFactory = _ => "20y" };
        var depth = new Option<int?>("--path-length")
        {
            Description = "How many authorities may stand below one another under it; no bound when left out.",
        };
        var (permit, exclude) = Bounds();
        var crlAt = new Option<string[]>("--crl-at")
        {
            Description = "HTTP address at which its CRL will be found: it goes into what it signs.",
            AllowMultipleArgumentsPerToken = true,
        };
        var certificateAt = new Option<string[]>("--certificate-at")
        {
            Description = "HTTP address at which its certificate will be found.",
            AllowMultipleArgumentsPerToken = true,
        };
        var c = new Command("create", "Create a root in a new folder.")
        {
            Folder,
            name,
            key,
            life,
            depth,
            permit,
            exclude,
            crlAt,
            certificateAt,
            PassphraseFd,
        };
        c.Does(
            (r, _) =>
            {
                var subject = DistinguishedName.Parse(r.GetValue(name)!);
                var spec = KeySpec.Parse(r.GetValue(key)!);
                var constraints = NameConstraints.Of(r.GetValue(permit) ?? [], r.GetValue(exclude) ?? []);
                var (crls, certificates) = (Addresses(r.GetValue(crlAt)), Addresses(r.GetValue(certificateAt)));
                var now = DateTimeOffset.UtcNow;
                // Everything is judged before anything is made.
                var trial = RootCeremony.Root(
                    subject,
                    new KeySigner(ECDsa.Create(ECCurve.NamedCurves.nistP256)).PublicKey,
                    NewSerial(),
                    Life(r.GetValue(life)!),
                    r.GetValue(depth),
                    constraints,
                    now
                );
                if (!Console.IsErrorRedirected)
                    Console.Error.WriteLine(
                        $"{subject} will be its name until {trial.NotAfter:yyyy-MM-dd}. A root's name never changes: everything below it carries it."
                    );
                var passphrase = Passphrase(r, twice: true);
                var folder = RootFolder.Create(r.GetValue(Folder)!);
                var signer = folder.NewKey(1, spec, passphrase);
                var der = CertificateWriter.Issue(trial with { PublicKey = signer.PublicKey }, signer);
                folder.Record(
                    Acts.Founded,
                    subject.ToString(),
                    new() { ["crl-at"] = string.Join(' ', crls), ["certificate-at"] = string.Join(' ', certificates) },
                    der,
                    TellingName.Of("root-certificate", subject.CommonName!, now),
                    signer,
                    now
                );
                var written = folder.Written;
                SignCrl(folder, 1, signer, TimeSpan.FromDays(400), now);
                Line($"Founded. Its certificate, for every client: {written}");
                Line($"Its first CRL: {folder.Written}");
                Rich($"{Grey("SHA-256 fingerprint")} {folder.Root.Thumbprint.Hex}");
                Line("Keep a second copy of the folder in another place, and the passphrase in neither.");
                return Task.FromResult(ExitCodes.Done);
            }
        );
        return c;
    }

    /// <summary>A root that was founded elsewhere, as by a service for itself, gets a folder: from then on it is kept as any other.</summary>
    public static Command Adopt()
    {
        var key = new Option<string>("--key")
        {
            Description = "Its encrypted key (PKCS#8 in PEM), as root-key--….pem in a service's take-away folder.",
            Required = true,
        };
        var files = new Argument<string[]>("files")
        {
            Description =
                "Its certificate, its newest CRL, and the certificates of the authorities it signed, whatever the files are called.",
            Arity = ArgumentArity.OneOrMore,
        };
        var c = new Command("adopt", "Make a root's folder from a key that was sealed elsewhere. The passphrase stays the same.")
        {
            Folder,
            files,
            key,
            PassphraseFd,
        };
        c.Does(
            (r, _) =>
            {
                var items = r.GetValue(files)!.SelectMany(f => FileInspection.Inspect(File.ReadAllBytes(f))).ToList();
                var certificates = items.Where(i => i.Kind == FileItemKind.Certificate).Select(i => X509.Read(i.Der)).ToList();
                var root =
                    certificates.SingleOrDefault(x => x.IsSelfSigned && x.IsAuthority)
                    ?? throw new BeaconProblem(
                        ProblemCode.WrongFile,
                        "These files hold no root certificate, or several.",
                        "Give the root's certificate, often named root.pem."
                    );
                var signed = certificates.Where(x => !x.IsSelfSigned).ToList();
                if (signed.FirstOrDefault(x => !x.SignedBy(root.PublicKey)) is { } stranger)
                    throw new BeaconProblem(
                        ProblemCode.WrongFile,
                        $"{stranger.Subject} was not signed by this root.",
                        "Leave that file out."
                    );
                var lists = items.Where(i => i.Kind == FileItemKind.Crl).Select(i => (i.Der, List: Crl.Read(i.Der))).ToList();
                if (lists.Any(l => !l.List.SignedBy(root.PublicKey)))
                    throw new BeaconProblem(
                        ProblemCode.WrongFile,
                        "A CRL among these was not signed by this root.",
                        "Leave that file out."
                    );
                if (lists.Any(l => l.List.Revoked.Count > 0))
                    throw new BeaconProblem(
                        ProblemCode.WrongFile,
                        "The CRL has entries: what was revoked must be recorded where it was done.",
                        "Take over the folder in which it was revoked."
                    );
                var now = DateTimeOffset.UtcNow;
                var passphrase = Passphrase(r, twice: false);
                var pem = File.ReadAllText(r.GetValue(key)!);
                AsymmetricAlgorithm opened = root.PublicKey.Spec.Algorithm == KeyAlgorithm.Rsa ? RSA.Create() : ECDsa.Create();
                try
                {
                    opened.ImportFromEncryptedPem(pem, passphrase);
                }
                catch (Exception e) when (e is ArgumentException or CryptographicException)
                {
                    throw new BeaconProblem(
                        ProblemCode.PassphraseWrong,
                        $"The passphrase does not open {r.GetValue(key)}, or it is no encrypted key of this root's kind.",
                        "Give both as they were sealed together."
                    );
                }
                var signer = new KeySigner(opened);
                if (!signer.PublicKey.SameKey(root.PublicKey))
                    throw new BeaconProblem(
                        ProblemCode.WrongFile,
                        "The key is another one than the certificate's.",
                        "Give the two that belong together."
                    );
                var folder = RootFolder.Create(r.GetValue(Folder)!);
                folder.TakeKey(1, opened, passphrase);
                var (crlAt, issuerAt) =
                    signed.Count > 0
                        ? (signed[^1].CrlUris, signed[^1].Access.Where(a => a.Method == Oids.CaIssuers).Select(a => a.Uri))
                        : ([], []);
                folder.Record(
                    Acts.Founded,
                    root.Subject.ToString(),
                    new()
                    {
                        ["crl-at"] = string.Join(' ', crlAt),
                        ["certificate-at"] = string.Join(' ', issuerAt),
                        ["adopted"] = "yes",
                    },
                    root.Der,
                    TellingName.Of("root-certificate", root.Subject.CommonName ?? "root", now),
                    signer,
                    now
                );
                foreach (var x in signed)
                    folder.Record(Acts.Signed, x.Subject.ToString(), new() { ["serial"] = x.Serial.Hex }, x.Der, "", signer, now);
                foreach (var l in lists.OrderBy(l => l.List.Number))
                    folder.Record(
                        Acts.Crl,
                        root.Subject.ToString(),
                        new()
                        {
                            ["number"] = $"{l.List.Number}",
                            ["root"] = "1",
                            ["revoked"] = "0",
                        },
                        l.Der,
                        "",
                        signer,
                        now
                    );
                Line(
                    $"Adopted: {root.Subject} with {signed.Count} authorities below it. Delete the sealed key where it lay, and keep a second copy of this folder in another place."
                );
                return Task.FromResult(ExitCodes.Done);
            }
        );
        return c;
    }
}
