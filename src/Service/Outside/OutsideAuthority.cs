using System.Text;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Service.Outside;

/// <summary>An authority that is not ours, asked by hand: what it wants in a subject, and what is known of its certificates.</summary>
public sealed class OutsideAuthority
{
    public int Id { get; private init; }
    public string Name { get; private init; } = "";
    public string Title { get; private set; } = "";

    /// <summary>What every subject for it holds besides the common name; RFC 4514.</summary>
    public string Subject { get; private set; } = "";
    public string Note { get; private set; } = "";
    public string FetchFromJson { get; private set; } = "[]";

    /// <summary>Its roots, PEM.</summary>
    public string AnchorsPem { get; private set; } = "";
    public string IntermediatesPem { get; private set; } = "";

    public static OutsideAuthority Of(string name) => new() { Name = name };

    public void Describe(string title, string subject, string note, string fetchFromJson) =>
        (Title, Subject, Note, FetchFromJson) = (title, subject, note, fetchFromJson);

    public void Trust(IEnumerable<X509> anchors) => AnchorsPem = Pem(anchors);

    public void Knows(IEnumerable<X509> intermediates) => IntermediatesPem = Pem(intermediates);

    public IReadOnlyList<X509> Anchors => Read(AnchorsPem);

    public IReadOnlyList<X509> Intermediates => Read(IntermediatesPem);

    public IReadOnlyList<string> FetchFrom => Shapes.Strings(FetchFromJson);

    public OutsideInfo Info() =>
        new(
            Name,
            Title,
            Subject,
            Note,
            FetchFrom,
            [.. Anchors.Select(x => Info("anchor", x)), .. Intermediates.Select(x => Info("intermediate", x))]
        );

    private static StoreAuthorityInfo Info(string kind, X509 x) =>
        new(kind, x.Subject.ToString(), x.Issuer.ToString(), x.Thumbprint.Hex, x.NotAfter);

    private static string Pem(IEnumerable<X509> certificates) =>
        string.Concat(certificates.Select(c => Armor.Write(Armor.Certificate, c.Der.Span)));

    private static IReadOnlyList<X509> Read(string pem) =>
        pem.Length == 0 ? [] : [.. Armor.Read(Encoding.ASCII.GetBytes(pem)).Blocks.Select(b => X509.Read(b.Der))];
}
