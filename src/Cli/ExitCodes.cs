using OrderlyBeacon.Core;

namespace OrderlyBeacon.Cli;

/// <summary>Documented in docs/guide/client.md.</summary>
internal static class ExitCodes
{
    public const int Done = 0;

    /// <summary>It was tried and did not succeed: refused, failed, undone.</summary>
    public const int Failed = 1;

    /// <summary>The command line or a file is wrong.</summary>
    public const int Usage = 2;

    /// <summary>Not signed in, or not allowed.</summary>
    public const int NotAllowed = 3;

    /// <summary>The service or the host is away.</summary>
    public const int Away = 4;
    public const int NotFound = 5;

    /// <summary>It waits for somebody or something and will go on by itself.</summary>
    public const int Waiting = 6;

    public static int Of(ProblemCode code) =>
        code switch
        {
            ProblemCode.NotSignedIn
            or ProblemCode.SignInRefused
            or ProblemCode.PassphraseWrong
            or ProblemCode.LockedOut
            or ProblemCode.NotAllowed
            or ProblemCode.SignInAgain
            or ProblemCode.OwnRequest => NotAllowed,
            ProblemCode.ConsentNeeded or ProblemCode.InProgress => Waiting,
            ProblemCode.TooBusy => Away,
            ProblemCode.Unreachable or ProblemCode.HostAway or ProblemCode.AuthorityNotReady => Away,
            ProblemCode.NotFound or ProblemCode.HostGone => NotFound,
            ProblemCode.InputInvalid
            or ProblemCode.NameAmbiguous
            or ProblemCode.NameMalformed
            or ProblemCode.SubjectMalformed
            or ProblemCode.RequestMalformed
            or ProblemCode.FileNotRecognised
            or ProblemCode.TooLarge
            or ProblemCode.RequestSignatureBad
            or ProblemCode.WrongFile => Usage,
            _ => Failed,
        };
}
