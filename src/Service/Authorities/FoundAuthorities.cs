using System.Security.Cryptography;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>
/// The first run: a root, and an issuing authority under it. The root's key signs the issuing authority and one CRL, is written to a sealed file
/// for the operator to take away, and is forgotten.
/// </summary>
public sealed class FoundAuthorities(
    BeaconDb db,
    AuthorityKeys keys,
    AuthorityRegistry registry,
    BeaconOptions options,
    TimeProvider clock,
    ILogger<FoundAuthorities> log
)
{
    private static readonly TimeSpan RootLife = TimeSpan.FromDays(20 * 365);
    private static readonly TimeSpan IssuingLife = TimeSpan.FromDays(8 * 365);
    private static readonly TimeSpan RootCrlLife = TimeSpan.FromDays(400);

    public async Task RunAsync(CancellationToken ct)
    {
        if (await db.Authorities.AnyAsync(ct))
            return;
        await using var write = await db.BeginWriteAsync(ct);
        var now = clock.GetUtcNow();
        var from = new DateTimeOffset(now.UtcTicks - now.UtcTicks % TimeSpan.TicksPerSecond, TimeSpan.Zero) - TimeSpan.FromMinutes(5);
        var spec = KeySpec.Parse(options.AuthorityKey);
        if (options.Founding == "offline")
        {
            await AskAsync(now, spec, ct);
            await write.CommitAsync(ct);
            return;
        }
        if (options.Founding != "whole")
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"The setting Founding is \"{options.Founding}\".",
                "Write whole, or offline."
            );
        // A founding that was killed half-way left files that no row points to: they get out of the way under their own names.
        var stamp = now.ToString("yyyyMMdd-HHmmss");
        var takeAway = Path.Combine(options.Data, "take-away");
        var sealedPath = Path.Combine(takeAway, $"root-key--{stamp}.pem");
        var passphrase = NewPassphrase();
        PrivateFiles.WriteNew(Path.Combine(takeAway, $"root-passphrase--{stamp}.txt"), passphrase + "\n");
        var rootSigner = keys.MakeSealed(sealedPath, spec, passphrase);

        var rootName = Name($"{options.Organization} Root");
        var root = CertificateWriter.Issue(
            new CertificateContent
            {
                Serial = SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16)),
                Issuer = rootName,
                Subject = rootName,
                PublicKey = rootSigner.PublicKey,
                NotBefore = from,
                NotAfter = from + RootLife,
                IsAuthority = true,
                KeyUsage = KeyUsages.KeyCertSign | KeyUsages.CrlSign,
            },
            rootSigner
        );

        var issuingKeyFile = keys.NameFor($"issuing--{stamp}");
        var issuingSigner = keys.Make(issuingKeyFile, spec);
        var bounds = AuthorityBounds.Of(options);
        var issuing = CertificateWriter.Issue(
            new CertificateContent
            {
                Serial = SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16)),
                Issuer = rootName,
                Subject = Name($"{options.Organization} Issuing"),
                PublicKey = issuingSigner.PublicKey,
                NotBefore = from,
                NotAfter = from + IssuingLife,
                IsAuthority = true,
                PathLength = 0,
                KeyUsage = KeyUsages.KeyCertSign | KeyUsages.CrlSign,
                Constraints = bounds,
                AuthorityKeyIdentifier = rootSigner.PublicKey.KeyIdentifier(),
                CrlUris = [registry.CrlUri(Authority.RootSlug)],
                IssuerUris = [registry.IssuerUri(Authority.RootSlug)],
            },
            rootSigner
        );

        var rootRow = Authority.Of(Authority.RootSlug, $"{options.Organization} Root", "root", root, null, now);
        db.Authorities.Add(rootRow);
        db.Authorities.Add(Authority.Of(Authority.IssuingSlug, $"{options.Organization} Issuing", "issuing", issuing, issuingKeyFile, now));
        await db.SaveChangesAsync(ct);
        var crl = CrlWriter
            .Issue(
                new()
                {
                    Issuer = rootName,
                    IssuerKeyIdentifier = rootSigner.PublicKey.KeyIdentifier(),
                    Number = 1,
                    ThisUpdate = from,
                    NextUpdate = from + RootCrlLife,
                },
                new CrlEntries(),
                rootSigner
            )
            .ToArray();
        db.Crls.Add(
            new()
            {
                AuthorityId = rootRow.Id,
                Number = 1,
                Der = crl,
                ThisUpdate = from,
                NextUpdate = from + RootCrlLife,
                Revoked = 0,
            }
        );
        await db.Note(
            now,
            Actor.System,
            JournalAction.AuthorityFounded,
            Authority.RootSlug,
            $"{rootName}; key sealed in {Path.GetFileName(sealedPath)}, to be taken away"
        );
        await db.Note(
            now,
            Actor.System,
            JournalAction.AuthorityFounded,
            Authority.IssuingSlug,
            $"{Name($"{options.Organization} Issuing")} under the root; it may certify {bounds?.ToString() ?? "everything"}"
        );
        await write.CommitAsync(ct);
        File.WriteAllText(Path.Combine(options.Data, "root.pem"), Armor.Write(Armor.Certificate, root));
        log.LogInformation(
            "Created a root and an issuing authority, which may certify {Bounds}. Take {File} and its passphrase away, to two places, and delete them here.",
            bounds?.ToString() ?? "every name there is: whoever gets its key can be anybody, everywhere. BEACON_BOUNDS=zones bounds it",
            sealedPath
        );
    }

    /// <summary>Only the issuing authority's key and request: the root is elsewhere, and nobody but a person carries files to it.</summary>
    private async Task AskAsync(DateTimeOffset now, KeySpec spec, CancellationToken ct)
    {
        var keyFile = keys.NameFor($"issuing--{now:yyyyMMdd-HHmmss}");
        var name = Name($"{options.Organization} Issuing");
        var request = CertificationRequest.Write(name, [], keys.Make(keyFile, spec), AuthorityBounds.Of(options));
        db.Authorities.Add(Authority.Asking(Authority.IssuingSlug, $"{options.Organization} Issuing", "issuing", request, keyFile));
        await db.SaveChangesAsync(ct);
        await db.Note(
            now,
            Actor.System,
            JournalAction.AuthorityAsked,
            Authority.IssuingSlug,
            $"{name}; its request {AuthorityAnswer.NameOf(CertificationRequest.Read(request))} waits to be carried to the root"
        );
        log.LogInformation(
            "The issuing authority waits for its certificate. Carry its request to the root: beacon authority request {Slug}",
            Authority.IssuingSlug
        );
    }

    private DistinguishedName Name(string cn) =>
        DistinguishedName.Of([new(Oids.Organization, options.Organization), new(Oids.CommonName, cn)]);

    private static string NewPassphrase()
    {
        const string letters = "abcdefghijkmnpqrstuvwxyz23456789";
        return string.Join('-', Enumerable.Range(0, 6).Select(_ => RandomNumberGenerator.GetString(letters, 5)));
    }
}
