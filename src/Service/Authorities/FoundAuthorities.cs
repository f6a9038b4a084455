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
        // A founding that was killed half-way left files that no row points to: they get out of the way under their own names.
        var stamp = now.ToString("yyyyMMdd-HHmmss");
        var takeAway = Path.Combine(options.Data, "take-away");
        var sealedPath = Path.Combine(takeAway, $"root-key--{stamp}.pem");
        var passphrase = NewPassphrase();
        PrivateFiles.WriteNew(Path.Combine(takeAway, $"root-passphrase--{stamp}.txt"), passphrase + "\n");
        var rootSigner = keys.MakeSealed(sealedPath, spec, passphrase);
        var root = CertificateWriter.Issue(RootContent(rootSigner, from), rootSigner);
        var issuingKeyFile = keys.NameFor($"issuing--{stamp}");
        var bounds = AuthorityBounds.Of(options);
        var content = IssuingContent(keys.Make(issuingKeyFile, spec), rootSigner, from, bounds);
        var issuing = CertificateWriter.Issue(content, rootSigner);

        var rootRow = Authority.Of(Authority.RootSlug, RootName, "root", root, null, now);
        db.Authorities.Add(rootRow);
        db.Authorities.Add(Authority.Of(Authority.IssuingSlug, IssuingName, "issuing", issuing, issuingKeyFile, now));
        await db.SaveChangesAsync(ct);
        db.Crls.Add(FirstCrl(rootRow.Id, rootSigner, from));
        var sealedIn = $"{Name(RootName)}; key sealed in {Path.GetFileName(sealedPath)}, to be taken away";
        await db.Note(now, Actor.System, JournalAction.AuthorityFounded, Authority.RootSlug, sealedIn);
        var bounded = $"{content.Subject} under the root; it may certify {bounds?.ToString() ?? "everything"}";
        await db.Note(now, Actor.System, JournalAction.AuthorityFounded, Authority.IssuingSlug, bounded);
        await write.CommitAsync(ct);
        File.WriteAllText(Path.Combine(options.Data, "root.pem"), Armor.Write(Armor.Certificate, root));
        log.LogInformation(
            "Created a root and an issuing authority, which may certify {Bounds}. Take {File} and its passphrase away, to two places, and delete them here.",
            bounds?.ToString() ?? "every name there is: whoever gets its key can be anybody, everywhere. BEACON_BOUNDS=zones bounds it",
            sealedPath
        );
    }

    private string RootName => $"{options.Organization} Root";

    private string IssuingName => $"{options.Organization} Issuing";

    private CertificateContent RootContent(ISigner signer, DateTimeOffset from) =>
        new()
        {
            Serial = SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16)),
            Issuer = Name(RootName),
            Subject = Name(RootName),
            PublicKey = signer.PublicKey,
            NotBefore = from,
            NotAfter = from + RootLife,
            IsAuthority = true,
            KeyUsage = KeyUsages.KeyCertSign | KeyUsages.CrlSign,
        };

    private CertificateContent IssuingContent(ISigner signer, ISigner root, DateTimeOffset from, NameConstraints? bounds) =>
        new()
        {
            Serial = SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16)),
            Issuer = Name(RootName),
            Subject = Name(IssuingName),
            PublicKey = signer.PublicKey,
            NotBefore = from,
            NotAfter = from + IssuingLife,
            IsAuthority = true,
            PathLength = 0,
            KeyUsage = KeyUsages.KeyCertSign | KeyUsages.CrlSign,
            Constraints = bounds,
            AuthorityKeyIdentifier = root.PublicKey.KeyIdentifier(),
            CrlUris = [registry.CrlUri(Authority.RootSlug)],
            IssuerUris = [registry.IssuerUri(Authority.RootSlug)],
        };

    /// <summary>The root's only list until its key is fetched again: it revokes nothing.</summary>
    private PublishedCrl FirstCrl(int rootId, ISigner root, DateTimeOffset from)
    {
        var content = new CrlContent
        {
            Issuer = Name(RootName),
            IssuerKeyIdentifier = root.PublicKey.KeyIdentifier(),
            Number = 1,
            ThisUpdate = from,
            NextUpdate = from + RootCrlLife,
        };
        return new()
        {
            AuthorityId = rootId,
            Number = 1,
            Der = CrlWriter.Issue(content, new CrlEntries(), root).ToArray(),
            ThisUpdate = from,
            NextUpdate = from + RootCrlLife,
            Revoked = 0,
        };
    }

    /// <summary>Only the issuing authority's key and request: the root is elsewhere, and nobody but a person carries files to it.</summary>
    private async Task AskAsync(DateTimeOffset now, KeySpec spec, CancellationToken ct)
    {
        var keyFile = keys.NameFor($"issuing--{now:yyyyMMdd-HHmmss}");
        var name = Name(IssuingName);
        var request = CertificationRequest.Write(name, [], keys.Make(keyFile, spec), AuthorityBounds.Of(options));
        db.Authorities.Add(Authority.Asking(Authority.IssuingSlug, IssuingName, "issuing", request, keyFile));
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
