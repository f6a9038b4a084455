namespace OrderlyBeacon.Core.Requests;

/// <summary>How much a finding weighs.</summary>
public enum FindingWeight
{
    /// <summary>Said, changes nothing.</summary>
    Note,

    /// <summary>Probably not what is meant.</summary>
    Warning,

    /// <summary>Nothing can be issued for it.</summary>
    Fatal,
}

/// <summary>What can be found about a certification request. Each has one meaning, given by <see cref="Findings.Describe"/>.</summary>
public enum FindingCode
{
    WeakKey,
    UnknownKey,
    SmallExponent,
    LargeExponent,
    WeakHash,
    UnknownSignature,
    BadProofOfPossession,
    NoAlternativeName,
    CommonNameNotAmongNames,
    DuplicateName,
    MalformedName,
    UnsupportedName,
    TooManyNames,
    MalformedExtension,
    DuplicateExtension,
    AsksToBeAuthority,
    UnknownExtension,
    TrailingData,
    ControlCharacter,
    SeveralAttributes,
    SeveralCommonNames,
    AttributeRefused,
    AttributeLeftOut,
    CommonNameNotJudged,
    TextualNoise,
}

/// <summary>One finding, with what it is about.</summary>
/// <param name="Subject">The name, number or place concerned; may be empty.</param>
public sealed record Finding(FindingCode Code, FindingWeight Weight, string Subject, string Message, string Cure);

/// <summary>The words and weights of findings.</summary>
public static class Findings
{
    public static Finding Of(FindingCode code, string subject = "")
    {
        var (weight, message, cure) = Describe(code, subject);
        return new(code, weight, subject, message, cure);
    }

    private static (FindingWeight, string, string) Describe(FindingCode code, string s) =>
        code switch
        {
            FindingCode.WeakKey => (FindingWeight.Fatal, $"The key ({s}) is too weak.", "Make a key of ec-p256 or rsa-2048 at least."),
            FindingCode.UnknownKey => (
                FindingWeight.Fatal,
                "The key is of a kind that is not issued for.",
                "Make an RSA key or one on P-256, P-384 or P-521."
            ),
            FindingCode.SmallExponent => (
                FindingWeight.Fatal,
                "The RSA key's public exponent is too small.",
                "Make a new key with the usual exponent 65537."
            ),
            FindingCode.LargeExponent => (
                FindingWeight.Fatal,
                "The RSA key is larger than 8192 bits, or its exponent is longer than 64 bits.",
                "Make a key of rsa-4096 at most, with the usual exponent 65537."
            ),
            FindingCode.WeakHash => (
                FindingWeight.Fatal,
                "The request is signed with SHA-1, which proves nothing any more.",
                "Make the request again with SHA-256."
            ),
            FindingCode.UnknownSignature => (
                FindingWeight.Fatal,
                "The request is signed with an algorithm that cannot be checked here.",
                "Sign it with SHA-256 and RSA or ECDSA."
            ),
            FindingCode.BadProofOfPossession => (
                FindingWeight.Fatal,
                "The signature does not match the key in the request: it was altered, or made with another key.",
                "Make the request again and carry it over unchanged."
            ),
            FindingCode.NoAlternativeName => (
                FindingWeight.Warning,
                "The request has no alternative name; clients look nowhere else.",
                "Add the host names as alternative names."
            ),
            FindingCode.CommonNameNotAmongNames => (
                FindingWeight.Warning,
                $"The common name \"{s}\" is not among the alternative names, so clients will not accept it.",
                "Add it as an alternative name, or leave it out."
            ),
            FindingCode.DuplicateName => (
                FindingWeight.Note,
                $"\"{s}\" stands twice among the names.",
                "Nothing to do: it is issued once."
            ),
            FindingCode.MalformedName => (
                FindingWeight.Fatal,
                $"\"{s}\" is not a name that a certificate may carry.",
                "Correct the name and make the request again."
            ),
            FindingCode.UnsupportedName => (
                FindingWeight.Fatal,
                $"There is a name of a form that is not issued ({s}).",
                "Ask for DNS names and addresses only."
            ),
            FindingCode.TooManyNames => (
                FindingWeight.Fatal,
                $"There are {s} names; 250 is the most.",
                "Split them over several certificates."
            ),
            FindingCode.MalformedExtension => (
                FindingWeight.Fatal,
                $"The extension {s} in the request cannot be read.",
                "Make the request again with another tool."
            ),
            FindingCode.DuplicateExtension => (
                FindingWeight.Fatal,
                $"The extension {s} stands twice in the request.",
                "Make the request again with it once."
            ),
            FindingCode.AsksToBeAuthority => (
                FindingWeight.Fatal,
                "The request asks to become an authority itself.",
                "Leave out the CA basic constraint; authorities are founded, not enrolled."
            ),
            FindingCode.UnknownExtension => (
                FindingWeight.Note,
                $"The request asks for the extension {s}; the profile decides extensions, so it is left out.",
                "Nothing to do."
            ),
            FindingCode.TrailingData => (
                FindingWeight.Fatal,
                $"After the request there are {s} more bytes.",
                "Give the request alone, as it was made."
            ),
            FindingCode.ControlCharacter => (
                FindingWeight.Fatal,
                "The subject holds a control character, or one that is not seen.",
                "Make the request again without it."
            ),
            FindingCode.SeveralAttributes => (
                FindingWeight.Fatal,
                "The request asks for extensions in two places.",
                "Make the request again with one extension request."
            ),
            FindingCode.SeveralCommonNames => (
                FindingWeight.Fatal,
                $"The subject has several common names ({s}); programs look at one or another of them.",
                "Make the request again with one common name, which is among the names, or with none."
            ),
            FindingCode.AttributeRefused => (
                FindingWeight.Fatal,
                $"Nobody can vouch for {s}: what a subject says besides its common name comes from the profile.",
                "Leave it out, or have it fixed in the profile."
            ),
            FindingCode.AttributeLeftOut => (
                FindingWeight.Note,
                $"{s} is left out: nobody can vouch for it. What a subject says besides its common name comes from the profile.",
                "Nothing to do."
            ),
            FindingCode.CommonNameNotJudged => (
                FindingWeight.Fatal,
                $"The common name \"{s}\" is not among the names.",
                "Add it as a name, or leave the common name out."
            ),
            _ => (FindingWeight.Note, s, "Nothing to do."),
        };
}
