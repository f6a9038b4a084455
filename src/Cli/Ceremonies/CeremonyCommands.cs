using System.CommandLine;
using System.Security.Cryptography;
using System.Text.Json;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Revocation;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Ceremonies;

/// <summary>An offline root, from founding to renewal: no service, no network, everything in one folder.</summary>
internal static class CeremonyCommands
{
    private static readonly Argument<string> Folder = new("folder") { Description = "The root's folder, as on a removable disk." };
    private static readonly Option<int?> PassphraseFd = Secrets.PassphraseFd;

    public static IEnumerable<Command> All() =>
        [
            new("ceremony", "An offline root: create it, sign with it, keep it. Needs no service and no network.")
            {
                Found(),
                Adopt(),
                Show(),
                Sign(),
                Revoke(),
                IssueCrl(),
                Renew(),
                RecoveryKeyCommand.Make(),
            },
        ];

    private static SerialNumber NewSerial() => SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16));

    private static Command Found()
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
    private static Command Adopt()
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

    private static Command Show()
    {
        var c = new Command("show", "Check the whole folder, and say what the root has done and what is to be done.") { Folder };
        c.Does(
            (r, _) =>
            {
                var folder = RootFolder.Open(r.GetValue(Folder)!);
                var s = folder.State();
                if (r.GetValue(Program.Json))
                {
                    Json(JsonSerializer.Serialize(s, CeremonyJson.Default.CeremonyState));
                    return Task.FromResult(ExitCodes.Done);
                }
                Rich($"{Green("○")} {Bold(s.Subject)}  {Grey($"{s.Entries} entries of its log hold together and are signed by it")}");
                Line();
                Table(
                    ["Generation", "Key", "Ends", "Bound to", "SHA-256"],
                    s.Generations.Select(g =>
                        new Ink[] { g.Number.ToString(), g.Key, When(g.NotAfter), (g.Constraints ?? "–"), g.Thumbprint[..24] + "…" }
                    ),
                    ""
                );
                Line();
                Table(
                    ["Subordinate", "State", "Ends", "Serial"],
                    s.Subordinates.Select(x =>
                        new Ink[]
                        {
                            x.Subject,
                            x.RevokedAt is { } at
                                ? $"{Orange("◆")} revoked {at.UtcDateTime:d MMM yyyy} ({x.Reason})"
                                : $"{Green("○")} good",
                            When(x.NotAfter),
                            x.Serial,
                        }
                    ),
                    "It has signed no subordinate yet."
                );
                Line();
                Table(
                    ["CRL of key", "Number", "Revoked", "Next by"],
                    s.Crls.Select(x => new Ink[] { x.Root.ToString(), x.Number.ToString(), x.Revoked.ToString(), When(x.NextUpdate) }),
                    ""
                );
                foreach (var late in s.Crls.Where(x => x.NextUpdate < DateTimeOffset.UtcNow.AddDays(60)))
                    Rich(
                        $"{Orange("◆")} The CRL of key {late.Root} {(late.NextUpdate < DateTimeOffset.UtcNow ? "has expired" : "expires soon")}: beacon ceremony crl {s.Folder}, and publish it."
                    );
                return Task.FromResult(ExitCodes.Done);
            }
        );
        return c;
    }

    private static Command Sign()
    {
        var request = new Argument<string>("request") { Description = "The subordinate's certification request." };
        var life = new Option<string>("--life") { Description = "Its life; never past the root's end.", DefaultValueFactory = _ => "8y" };
        var depth = new Option<int>("--path-length")
        {
            Description = "How many authorities may stand below it.",
            DefaultValueFactory = _ => 0,
        };
        var preview = new Option<bool>("--preview") { Description = "Say what would be signed, and sign nothing." };
        var noBounds = new Option<bool>("--no-bounds")
        {
            Description =
                "Leave out the bounds that the request asks for: whoever gets the authority's key can then certify every name there is.",
        };
        var (permit, exclude) = Bounds();
        var c = new Command("sign", "Sign a subordinate authority's request, after saying what it will be able to do.")
        {
            Folder,
            request,
            life,
            depth,
            permit,
            exclude,
            noBounds,
            preview,
            PassphraseFd,
        };
        c.Does(
            (r, _) =>
            {
                var folder = RootFolder.Open(r.GetValue(Folder)!);
                var bytes = File.ReadAllBytes(r.GetValue(request)!);
                RootCeremony.Expect(
                    bytes,
                    FileItemKind.CertificateRequest,
                    "a subordinate's certification request",
                    "Give the request that the authority made, often named issuing-request--….pem."
                );
                var now = DateTimeOffset.UtcNow;
                var addresses = folder.AddressesOf(folder.KeyNumberOf(folder.Generations.Count));
                var decision = RootCeremony.Subordinate(
                    folder.Root,
                    CertificationRequest.Read(bytes),
                    new(
                        Life(r.GetValue(life)!),
                        r.GetValue(depth),
                        NameConstraints.Of(r.GetValue(permit) ?? [], r.GetValue(exclude) ?? []),
                        addresses.Crl,
                        addresses.Issuer
                    )
                    {
                        Unbounded = r.GetValue(noBounds),
                    },
                    [.. folder.Subordinates.Where(s => s.RevokedAt is null).Select(s => s.Certificate)],
                    NewSerial(),
                    now
                );
                foreach (var s in decision.Sentences)
                    Hanging("· ", 2, s);
                if (r.GetValue(preview))
                {
                    Line("Nothing is signed: this is a preview.");
                    return Task.FromResult(ExitCodes.Done);
                }
                var signer = folder.Unlock(folder.Generations.Count, Passphrase(r, twice: false));
                var der = CertificateWriter.Issue(decision.Content, signer);
                folder.Record(
                    Acts.Signed,
                    decision.Content.Subject.ToString(),
                    new() { ["serial"] = decision.Content.Serial.Hex, ["request"] = Thumbprint.Of(bytes).Hex },
                    der,
                    TellingName.Of(
                        "authority-certificate",
                        $"{decision.Content.Subject.CommonName} {decision.Content.Serial.Hex[..8]}",
                        now
                    ),
                    signer,
                    now
                );
                Line($"Signed. Take to the authority: {folder.Written}");
                return Task.FromResult(ExitCodes.Done);
            }
        );
        return c;
    }

    private static Command Revoke()
    {
        var serial = new Argument<string>("serial") { Description = "The subordinate's serial number; beacon ceremony show lists them." };
        var reason = new Option<string>("--reason") { Description = "Why.", Required = true };
        reason.AcceptOnlyFromAmong("unspecified", "ca-compromise", "affiliation-changed", "superseded", "cessation-of-operation");
        var c = new Command("revoke", "Revoke a subordinate for good, and sign the CRL that says so.")
        {
            Folder,
            serial,
            reason,
            PassphraseFd,
        };
        c.Does(
            (r, _) =>
            {
                var folder = RootFolder.Open(r.GetValue(Folder)!);
                if (
                    !SerialNumber.TryParse(r.GetValue(serial)!, out var wanted)
                    || folder.Subordinates.FirstOrDefault(s => s.Certificate.Serial == wanted) is not { Certificate: { } subordinate } found
                )
                    throw new BeaconProblem(
                        ProblemCode.NotFound,
                        $"This root signed nothing with the serial {r.GetValue(serial)}.",
                        "See beacon ceremony show."
                    );
                if (found.RevokedAt is { } at)
                    throw new BeaconProblem(
                        ProblemCode.WrongState,
                        $"{subordinate.Subject} was revoked already, on {at:yyyy-MM-dd}.",
                        "Nothing to do."
                    );
                var (now, generation) = (DateTimeOffset.UtcNow, folder.RootOf(subordinate));
                var passphrase = Passphrase(r, twice: false);
                var signer = folder.Unlock(generation, passphrase);
                folder.Record(
                    Acts.Revoked,
                    wanted.Hex,
                    new()
                    {
                        ["reason"] = Enum.Parse<RevocationReason>(r.GetValue(reason)!.Replace("-", ""), true).ToString(),
                        ["who"] = subordinate.Subject.ToString(),
                    },
                    default,
                    "",
                    signer,
                    now
                );
                SignCrl(folder, generation, signer, TimeSpan.FromDays(400), now);
                Line($"{subordinate.Subject} is revoked as soon as this CRL is published: {folder.Written}");
                return Task.FromResult(ExitCodes.Done);
            }
        );
        return c;
    }

    private static Command IssueCrl()
    {
        var life = new Option<string>("--life") { Description = "How long it is good.", DefaultValueFactory = _ => "400d" };
        var c = new Command("crl", "Sign a fresh CRL for each of the root's keys that is still in use.") { Folder, life, PassphraseFd };
        c.Does(
            (r, _) =>
            {
                var folder = RootFolder.Open(r.GetValue(Folder)!);
                var passphrase = Passphrase(r, twice: false);
                var now = DateTimeOffset.UtcNow;
                foreach (var g in Keys(folder).Where(g => folder.Generations[g - 1].NotAfter > now))
                {
                    SignCrl(folder, g, folder.Unlock(g, passphrase), Life(r.GetValue(life)!), now);
                    Line($"Signed. Publish: {folder.Written}");
                }
                return Task.FromResult(ExitCodes.Done);
            }
        );
        return c;
    }

    private static Command Renew()
    {
        var newKey = new Option<string?>("--new-key") { Description = "Take a new key of this kind; the same key when left out." };
        var life = new Option<string>("--life") { Description = "Life of the new certificate.", DefaultValueFactory = _ => "20y" };
        var c = new Command("renew", "Renew the root, with its key or a new one; a new key comes with both cross certificates.")
        {
            Folder,
            newKey,
            life,
            PassphraseFd,
        };
        c.Does(
            (r, _) =>
            {
                var folder = RootFolder.Open(r.GetValue(Folder)!);
                var (old, count, now) = (folder.Root, folder.Generations.Count, DateTimeOffset.UtcNow);
                var spec = r.GetValue(newKey) is { } kind ? KeySpec.Parse(kind) : null;
                var passphrase = Passphrase(r, twice: false);
                var before = folder.Unlock(count, passphrase);
                KeySigner after;
                if (spec is null)
                {
                    folder.CarryKey(count, count + 1);
                    after = before;
                }
                else
                    after = folder.NewKey(count + 1, spec, passphrase);
                var der = CertificateWriter.Issue(
                    RootCeremony.Root(
                        old.Subject,
                        after.PublicKey,
                        NewSerial(),
                        Life(r.GetValue(life)!),
                        old.PathLength,
                        old.Constraints,
                        now
                    ),
                    after
                );
                // The old key vouches for the new one in the log.
                folder.Record(
                    Acts.Renewed,
                    old.Subject.ToString(),
                    [],
                    der,
                    TellingName.Of("root-certificate", $"{old.Subject.CommonName} {count + 1}", now),
                    before,
                    now
                );
                Line($"Renewed. The new certificate, for every client: {folder.Written}");
                if (spec is null)
                    return Task.FromResult(ExitCodes.Done);
                var (oldAt, newAt) = (folder.AddressesOf(folder.KeyNumberOf(count)), folder.AddressesOf(folder.KeyNumberOf(count + 1)));
                foreach (
                    var (of, by, signer, at, what, use) in new[]
                    {
                        (
                            folder.Root,
                            old,
                            before,
                            oldAt,
                            "cross-new-by-old",
                            "for clients that trust only the old root: send it along with what the new key certifies"
                        ),
                        (
                            old,
                            folder.Root,
                            after,
                            newAt,
                            "cross-old-by-new",
                            "for clients that trust only the new root: send it along with what the old key certified"
                        ),
                    }
                )
                {
                    folder.Record(
                        Acts.Crossed,
                        of.Subject.ToString(),
                        new() { ["what"] = what },
                        CertificateWriter.Issue(
                            RootCeremony.Cross(of, by, NewSerial()) with
                            {
                                CrlUris = at.Crl,
                                IssuerUris = at.Issuer,
                            },
                            signer
                        ),
                        TellingName.Of(what, $"{of.Subject.CommonName} {count + 1}", now),
                        signer,
                        now
                    );
                    Line($"{folder.Written}: {use}.");
                }
                SignCrl(folder, count + 1, after, TimeSpan.FromDays(400), now);
                Line($"Publish the new key's CRL beside the old one's: {folder.Written}");
                return Task.FromResult(ExitCodes.Done);
            }
        );
        return c;
    }

    /// <summary>The first generation of each key.</summary>
    private static IEnumerable<int> Keys(RootFolder folder) =>
        folder.Generations.Select((g, i) => (g, i)).GroupBy(x => x.g.PublicKey.Fingerprint()).Select(x => x.Max(y => y.i) + 1);

    private static void SignCrl(RootFolder folder, int generation, ISigner signer, TimeSpan life, DateTimeOffset now)
    {
        var root = folder.Generations[generation - 1];
        var revoked = folder
            .Subordinates.Where(s =>
                s.RevokedAt is not null && s.Certificate.AuthorityKeyIdentifier.Span.SequenceEqual(root.SubjectKeyIdentifier.Span)
            )
            .Select(s => new RevokedCertificate(s.Certificate.Serial, s.RevokedAt!.Value, s.Reason))
            .ToList();
        // No list of a root names its scope: clients that check the whole chain apply it to the root itself, whose certificate names no distribution point. The key that signed tells its lists apart.
        var number = folder.LastCrlNumber + 1;
        var from = new DateTimeOffset(now.UtcTicks - now.UtcTicks % TimeSpan.TicksPerSecond, TimeSpan.Zero);
        var der = CrlWriter.Issue(
            new()
            {
                Issuer = root.Subject,
                IssuerKeyIdentifier = root.SubjectKeyIdentifier,
                Number = number,
                ThisUpdate = from,
                NextUpdate = from + life,
            },
            new CrlEntries(revoked),
            signer
        );
        folder.Record(
            Acts.Crl,
            root.Subject.ToString(),
            new()
            {
                ["number"] = number.ToString(),
                ["root"] = generation.ToString(),
                ["revoked"] = revoked.Count.ToString(),
            },
            der,
            TellingName.Of("root-crl", $"{root.Subject.CommonName} number {number}", now),
            signer,
            now
        );
    }

    private static (Option<string[]> Permit, Option<string[]> Exclude) Bounds() =>
        (
            new("--permit")
            {
                Description = "A DNS zone, or a network as 10.20.0.0/16, that it may certify; may be given several times.",
                AllowMultipleArgumentsPerToken = true,
            },
            new("--exclude") { Description = "A DNS zone, or a network, that it may not certify.", AllowMultipleArgumentsPerToken = true }
        );

    private static string[] Addresses(string[]? given) =>
        [
            .. (given ?? []).Select(a =>
                Uri.TryCreate(a, UriKind.Absolute, out var u) && u.Scheme == "http" && !a.Contains(' ')
                    ? a
                    : throw new BeaconProblem(
                        ProblemCode.InputInvalid,
                        $"\"{a}\" is not a plain HTTP address.",
                        "Give one like http://pki.thistledown.example/root.crl; clients fetch it before they trust anything, so it is not https."
                    )
            ),
        ];

    private static TimeSpan Life(string text)
    {
        if (text.Length is > 1 and < 7 && int.TryParse(text[..^1], System.Globalization.NumberStyles.None, null, out var n) && n > 0)
            switch (text[^1])
            {
                case 'y':
                    return TimeSpan.FromDays(Math.Floor(n * 365.25));
                case 'd':
                    return TimeSpan.FromDays(n);
            }
        throw new BeaconProblem(ProblemCode.InputInvalid, $"\"{text}\" is not a life.", "Write a number and y or d, as in 8y or 400d.");
    }

    private static string Passphrase(ParseResult r, bool twice) => Secrets.Passphrase(r, "Passphrase of the root: ", twice);
}
