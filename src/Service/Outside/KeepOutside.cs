using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Outside;

/// <summary>Keeps what is known of authorities that are not ours.</summary>
public sealed class KeepOutside(BeaconDb db, OutsideBook book, Changes changes, TimeProvider clock)
{
    private const int MostText = 2000;

    public async Task<OutsideInfo> RunAsync(string name, OutsideWish wish, Caller caller, CancellationToken ct)
    {
        CheckName(name);
        var subject = SubjectOf(wish.Subject ?? "");
        if ((wish.Title?.Trim() ?? "").Length is 0 or > 100 || (wish.Note ?? "").Length > MostText)
            throw Bad("The title is empty, or a text is too long.", $"Give a short title; a note has at most {MostText} characters.");
        var fetchFrom = (wish.FetchFrom ?? []).Select(h => DnsName.TryParse(h, out var n, out _) ? n!.Ascii : h.Trim()).ToList();
        var (anchors, intermediates) = (Certificates(wish.Anchors, "anchor"), Certificates(wish.Intermediates, "intermediate"));
        if (anchors?.FirstOrDefault(a => !a.IsSelfSigned) is { } noRoot)
            throw Bad(
                $"\"{noRoot.Subject}\" is no root: it is signed by \"{noRoot.Issuer}\".",
                "Give the root as anchor, and this one as intermediate."
            );
        OutsideAuthority row;
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var there = await db.Outside.FirstOrDefaultAsync(o => o.Name == name, ct);
            if (there is null && anchors is not { Count: > 0 })
                throw Bad(
                    "No anchor is given: then nobody could say whether an answer is of this authority.",
                    "Give its root certificate; authorities publish them."
                );
            row = there ?? OutsideAuthority.Of(name);
            row.Describe(wish.Title!.Trim(), subject.ToString(), wish.Note?.Trim() ?? "", Shapes.Json(fetchFrom));
            if (anchors is not null)
                row.Trust(anchors);
            if (intermediates is not null)
                row.Knows(intermediates);
            if (there is null)
                db.Outside.Add(row);
            await db.Note(
                clock.GetUtcNow(),
                caller.Actor,
                JournalAction.OutsideKept,
                name,
                $"{row.Subject}; anchors {string.Join(", ", row.Anchors.Select(a => a.Thumbprint.Hex[..16]))}"
            );
            await write.CommitAsync(ct);
        }
        await book.LoadAsync(db, ct);
        changes.Tell("outside", name);
        return row.Info();
    }

    public async Task ForgetAsync(string name, Caller caller, CancellationToken ct)
    {
        await using (var write = await db.BeginWriteAsync(ct))
        {
            var row =
                await db.Outside.FirstOrDefaultAsync(o => o.Name == name, ct)
                ?? throw new BeaconProblem(ProblemCode.NotFound, $"No authority outside is called \"{name}\".", "See beacon outside list.");
            if (await db.Certificates.Where(c => c.Outside == name).Select(c => c.Name).FirstOrDefaultAsync(ct) is { } used)
                throw new BeaconProblem(
                    ProblemCode.WrongState,
                    $"\"{used}\" is signed by {name}: without it nobody could judge or renew it.",
                    "Request that certificate from another authority first."
                );
            db.Outside.Remove(row);
            await db.Note(clock.GetUtcNow(), caller.Actor, JournalAction.OutsideForgotten, name);
            await write.CommitAsync(ct);
        }
        await book.LoadAsync(db, ct);
        changes.Tell("outside", name);
    }

    private static void CheckName(string name)
    {
        if (name.Length is 0 or > 40 || !name.All(c => char.IsAsciiLetterLower(c) || char.IsAsciiDigit(c) || c == '-'))
            throw Bad($"\"{name}\" cannot be its short name.", "Use small letters, digits and hyphens.");
    }

    /// <summary>The usual mistakes of subjects, each said by its field.</summary>
    private static DistinguishedName SubjectOf(string text)
    {
        var subject = text.Trim().Length == 0 ? DistinguishedName.Empty : DistinguishedName.Parse(text);
        foreach (var a in subject.Relative.SelectMany(r => r))
        {
            var key = DistinguishedName.KeyOf(a.Oid);
            if (a.Oid == Oids.CommonName)
                throw Bad("The subject has a common name.", "Leave it out: it is each request's own, one of its names.");
            if (key == "C" && (a.Value.Length != 2 || !a.Value.All(char.IsAsciiLetterUpper)))
                throw Bad(
                    $"\"{a.Value}\" is no country.",
                    "C is the two capital letters of ISO 3166, as GB or DE; the whole word is refused by most authorities."
                );
            if (key == "ST" && a.Value.Length <= 2)
                throw Bad($"ST={a.Value} is an abbreviation.", "ST is the state or province in full; leave it out where there is none.");
        }
        // However it was written down: most general first, as all authorities have it.
        return DistinguishedName.Of(subject.Relative.SelectMany(r => r).OrderBy(a => Math.Max(0, Array.IndexOf(General, a.Oid))));
    }

    private static readonly string[] General = [Oids.Country, Oids.State, Oids.Locality, Oids.Organization, Oids.OrganizationalUnit];

    private static List<X509>? Certificates(IReadOnlyList<FilePart>? files, string kind)
    {
        if (files is null)
            return null;
        if (files.Count == 0)
            return [];
        using var bag = CertificateBag.Read(TakeAnswer.Files(files), null, withKeys: false);
        return bag.Certificates.FirstOrDefault(c => !c.IsAuthority) is { } leaf
            ? throw Bad($"\"{leaf.Subject}\" is no authority's certificate.", $"Give the {kind} alone.")
            : [.. bag.Certificates];
    }

    private static BeaconProblem Bad(string what, string cure) => new(ProblemCode.InputInvalid, what, cure);
}
