namespace OrderlyBeacon.Contracts;

/// <summary>An authority that is not ours, asked by hand.</summary>
/// <param name="Name">Its short name in commands, as <c>harbour-trust</c>.</param>
/// <param name="Subject">What every subject for it holds besides the common name, as <c>C=GB,L=Thistledown,O=Thistledown Rail</c>: typed once.</param>
/// <param name="Note">How a request is handed in there, for whoever does it.</param>
/// <param name="FetchFrom">Hosts from which intermediates that an answer lacks may be fetched by the address in it (RFC 5280 section 4.2.2.1).</param>
/// <param name="Certificates">What is known of it: anchors and intermediates.</param>
public sealed record OutsideInfo(
    string Name,
    string Title,
    string Subject,
    string Note,
    IReadOnlyList<string> FetchFrom,
    IReadOnlyList<StoreAuthorityInfo> Certificates
);

/// <summary>As <see cref="OutsideInfo"/>, to be kept. Certificates in PEM, or any form that answers have, Base64.</summary>
/// <param name="Anchors">Its roots; null leaves them as they are.</param>
/// <param name="Intermediates">Null leaves them as they are.</param>
public sealed record OutsideWish(
    string Title,
    string Subject,
    string Note,
    IReadOnlyList<string> FetchFrom,
    IReadOnlyList<FilePart>? Anchors,
    IReadOnlyList<FilePart>? Intermediates
);

/// <summary>Files that an authority which is not ours has sent, in any form and order.</summary>
public sealed record AnswerFiles(IReadOnlyList<FilePart> Files);

/// <summary>What became of each certificate in an answer.</summary>
public sealed record AnswerOutcome(IReadOnlyList<AnsweredRequest> Answers, IReadOnlyList<string> Notes);

/// <param name="Certificate">What it is for, as the certificate says.</param>
/// <param name="Request">The request that it answers; null when none here waits for it.</param>
/// <param name="Taken">Whether it is being put in place now.</param>
/// <param name="Told">What happened, or why not and what to do.</param>
/// <param name="Order">The order that puts it in place.</param>
public sealed record AnsweredRequest(string Certificate, long? Request, bool Taken, string Told, long? Order);

/// <summary>A request's CSR as it goes out, PEM, and what is in it.</summary>
public sealed record RequestCsr(string Csr, string Subject, IReadOnlyList<string> Names, string Key, string FileName);

/// <summary>An answer that differs from what was asked: it is taken only on somebody's decision.</summary>
/// <param name="At">When it came.</param>
public sealed record HeldAnswer(
    string Serial,
    IReadOnlyList<string> Names,
    DateTimeOffset NotAfter,
    IReadOnlyList<string> Differences,
    DateTimeOffset At
);
