namespace OrderlyBeacon.Core;

/// <summary>Why something that was asked for cannot be done. Each has a chapter in docs/problems.md with cause and cure.</summary>
public enum ProblemCode
{
    /// <summary>A name is not one that a certificate may carry.</summary>
    NameMalformed,

    /// <summary>A subject (distinguished name) cannot be read.</summary>
    SubjectMalformed,

    /// <summary>A key algorithm or size is not known or not allowed.</summary>
    KeyNotAllowed,

    /// <summary>Bytes that should be a certification request are not one.</summary>
    RequestMalformed,

    /// <summary>A request's signature does not match its public key.</summary>
    RequestSignatureBad,

    /// <summary>Something is larger than it may be.</summary>
    TooLarge,

    /// <summary>A certificate cannot be read.</summary>
    CertificateMalformed,

    /// <summary>A certificate with such a content is forbidden by RFC 5280, so it is not made.</summary>
    CertificateUnwritable,

    /// <summary>A revocation list cannot be read.</summary>
    CrlMalformed,

    /// <summary>A question about a certificate's status, or its answer, cannot be read.</summary>
    OcspMalformed,

    /// <summary>A file is not the one that was expected here.</summary>
    WrongFile,

    /// <summary>The answer to an authority's request cannot be used.</summary>
    AnswerRefused,

    /// <summary>A root's folder lacks a part, or a part of it was altered.</summary>
    CeremonyFolderBroken,

    /// <summary>A passphrase does not open what it should open.</summary>
    PassphraseWrong,

    /// <summary>A file holds nothing that is recognised.</summary>
    FileNotRecognised,

    /// <summary>The request was refused by the profile or the name rules.</summary>
    RequestRefused,

    /// <summary>A profile makes no sense.</summary>
    ProfileRefused,

    /// <summary>The request is in a state that does not allow this.</summary>
    WrongState,

    /// <summary>The thing named is not there.</summary>
    NotFound,

    /// <summary>A name is taken.</summary>
    AlreadyExists,

    /// <summary>A field of the input is missing or wrong.</summary>
    InputInvalid,

    /// <summary>Nobody is signed in, or the sign-in has run out.</summary>
    NotSignedIn,

    /// <summary>The last proof of who you are is too long ago for this.</summary>
    SignInAgain,

    /// <summary>A second administrator must consent to this.</summary>
    ConsentNeeded,

    /// <summary>Too many calls at once or in a short time.</summary>
    TooBusy,

    /// <summary>The same call is being carried out now.</summary>
    InProgress,

    /// <summary>A short name fits several things.</summary>
    NameAmbiguous,

    /// <summary>Name or password is wrong.</summary>
    SignInRefused,

    /// <summary>Too many wrong passwords.</summary>
    LockedOut,

    /// <summary>The person or agent may not do this.</summary>
    NotAllowed,

    /// <summary>A requester tried to approve a request of their own.</summary>
    OwnRequest,

    /// <summary>A join code is wrong, used or past its time.</summary>
    JoinCodeRefused,

    /// <summary>The host has not been heard from.</summary>
    HostAway,

    /// <summary>The directory does not answer, and something can be decided with its answer only.</summary>
    DirectoryAway,

    /// <summary>A Kerberos ticket is not one to sign in with here.</summary>
    TicketRefused,

    /// <summary>The host was removed.</summary>
    HostGone,

    /// <summary>Somebody changed it in between.</summary>
    ChangedMeanwhile,

    /// <summary>An edit needs to say which version it changes.</summary>
    VersionMissing,

    /// <summary>An idempotency key was used before for something else.</summary>
    IdempotencyKeyReused,

    /// <summary>The authority cannot sign now.</summary>
    AuthorityNotReady,

    /// <summary>The server's configuration is broken before any change.</summary>
    ConfigurationBroken,

    /// <summary>The server's configuration has a form this connector does not change.</summary>
    ConfigurationUnsupported,

    /// <summary>A service answers to names that the certificate lacks, and nobody has said that they are meant to be left out.</summary>
    NamesNotCovered,

    /// <summary>A listening port belongs to another program.</summary>
    PortTaken,

    /// <summary>The server would not take the change; everything is as it was.</summary>
    SwapUndone,

    /// <summary>The server would not take the change, and putting it back did not help either: a person must look.</summary>
    SwapStuck,

    /// <summary>The server did not stay up; it was put back and started again.</summary>
    ServerDied,

    /// <summary>A disk is full or a file cannot be written.</summary>
    CannotWrite,

    /// <summary>A network peer did not answer as it should.</summary>
    Unreachable,

    /// <summary>A zone's name server does not take a change of its records.</summary>
    ZoneRefused,

    /// <summary>TLSA records in DNS speak of other certificates than the one that is to be served.</summary>
    RecordsMismatch,

    /// <summary>Stored data does not fit together.</summary>
    DataDamaged,

    /// <summary>An unexpected fault; the log has the details.</summary>
    Internal,
}

/// <summary>Every expected failure: what is wrong and where (<see cref="Exception.Message"/>) and what to do (<see cref="Cure"/>).</summary>
public class BeaconProblem(ProblemCode code, string message, string cure, Exception? inner = null) : Exception(message, inner)
{
    public ProblemCode Code { get; } = code;

    /// <summary>One sentence that says what to do.</summary>
    public string Cure { get; } = cure;

    /// <summary>The code as it travels: lower case with hyphens, as <c>name-malformed</c>.</summary>
    public string Slug => SlugOf(Code);

    /// <summary>Writes any of our enum members as it travels: <c>NameMalformed</c> → <c>name-malformed</c>.</summary>
    public static string SlugOf(Enum value)
    {
        var name = value.ToString();
        var text = new System.Text.StringBuilder(name.Length + 8);
        for (var i = 0; i < name.Length; i++)
        {
            if (i > 0 && char.IsUpper(name[i]))
                text.Append('-');
            text.Append(char.ToLowerInvariant(name[i]));
        }
        return text.ToString();
    }
}
