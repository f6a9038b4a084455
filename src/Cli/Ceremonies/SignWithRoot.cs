using System.CommandLine;
using OrderlyBeacon.Core.Ceremonies;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Revocation;
using static OrderlyBeacon.Cli.Ceremonies.RootOptions;
using static OrderlyBeacon.Cli.Screen;

namespace OrderlyBeacon.Cli.Ceremonies;

/// <summary>Answers an authority that asks the root.</summary>
internal static class SignWithRoot
{
    public static Command Sign()
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
}
