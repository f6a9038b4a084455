using System.CommandLine;
using System.Text.Json;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using static OrderlyBeacon.Cli.Ceremonies.RootOptions;
using static OrderlyBeacon.Cli.Ink;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Ceremonies;

/// <summary>Keeps a root: shows it, revokes, issues its lists, renews it.</summary>
internal static class KeepRoot
{
    public static Command Show()
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
                    ["Generation", "Key", "Expires", "Bound to", "SHA-256"],
                    s.Generations.Select(g =>
                        new Ink[] { g.Number.ToString(), g.Key, When(g.NotAfter), (g.Constraints ?? "–"), g.Thumbprint[..24] + "…" }
                    ),
                    ""
                );
                Line();
                Table(
                    ["Subordinate", "State", "Expires", "Serial"],
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

    public static Command Revoke()
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

    public static Command IssueCrl()
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

    public static Command Renew()
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
}
