using System.CommandLine;
using System.Security.Cryptography;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;

namespace OrderlyBeacon.Cli.Ceremonies;

/// <summary>What the commands of an offline root have in common.</summary>
internal static class RootOptions
{
    public static readonly Argument<string> Folder = new("folder") { Description = "The root's folder, as on a removable disk." };
    public static readonly Option<int?> PassphraseFd = Secrets.PassphraseFd;

    public static SerialNumber NewSerial() => SerialNumber.FromRandom(RandomNumberGenerator.GetBytes(16));

    /// <summary>The first generation of each key.</summary>
    public static IEnumerable<int> Keys(RootFolder folder) =>
        folder.Generations.Select((g, i) => (g, i)).GroupBy(x => x.g.PublicKey.Fingerprint()).Select(x => x.Max(y => y.i) + 1);

    public static void SignCrl(RootFolder folder, int generation, ISigner signer, TimeSpan life, DateTimeOffset now)
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

    public static (Option<string[]> Permit, Option<string[]> Exclude) Bounds() =>
        (
            new("--permit")
            {
                Description = "A DNS zone, or a network as 10.20.0.0/16, that it may certify; may be given several times.",
                AllowMultipleArgumentsPerToken = true,
            },
            new("--exclude") { Description = "A DNS zone, or a network, that it may not certify.", AllowMultipleArgumentsPerToken = true }
        );

    public static string[] Addresses(string[]? given) =>
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

    public static TimeSpan Life(string text)
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

    public static string Passphrase(ParseResult r, bool twice) => Secrets.Passphrase(r, "Passphrase of the root: ", twice);
}
