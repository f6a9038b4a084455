using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Requests;

/// <summary>One wish for one edition; its number is its key.</summary>
public sealed class Request
{
    public long Id { get; private init; }
    public RequestState State { get; private set; }
    public int? CertificateId { get; private set; }
    public string CertificateName { get; private init; } = "";
    public int? HostId { get; private init; }
    public string Profile { get; private init; } = "";
    public string Requester { get; private init; } = "";

    /// <summary><c>person</c>, <c>renewal</c> or <c>est</c>.</summary>
    public string Cause { get; private init; } = "";
    public string Subject { get; private init; } = "";
    public string NamesJson { get; private init; } = "[]";
    public string VerdictsJson { get; private set; } = "[]";
    public string FindingsJson { get; private init; } = "[]";
    public string Key { get; private init; } = "";
    public string? Life { get; private init; }
    public byte[]? Csr { get; private set; }
    public string BindToJson { get; private init; } = "[]";
    public int? Port { get; private init; }
    public double? RenewAfter { get; private init; }
    public string? Note { get; private init; }
    public string? Reason { get; private set; }
    public string? DecidedBy { get; private set; }
    public DateTimeOffset At { get; private init; }
    public long? OrderId { get; private set; }
    public long Version { get; private set; } = 1;

    public static Request Of(DateTimeOffset at, string requester, string cause, string certificateName, int? hostId, string profile, string subject, string namesJson, string verdictsJson,
        string findingsJson, string key, string? life, byte[]? csr, string bindToJson, int? port, double? renewAfter, string? note) => new()
    {
        At = at, Requester = requester, Cause = cause, CertificateName = certificateName, HostId = hostId, Profile = profile, Subject = subject, NamesJson = namesJson,
        VerdictsJson = verdictsJson, FindingsJson = findingsJson, Key = key, Life = life, Csr = csr, BindToJson = bindToJson, Port = port, RenewAfter = renewAfter, Note = note,
        State = RequestState.Draft,
    };

    public void WaitForApproval() => Move(RequestState.WaitingForApproval, RequestState.Draft);

    public void Refuse(string reason, string by)
    {
        Move(RequestState.Refused, RequestState.Draft, RequestState.WaitingForApproval);
        (Reason, DecidedBy) = (reason, by);
    }

    public void Withdraw(string by)
    {
        Move(RequestState.Withdrawn, RequestState.WaitingForApproval, RequestState.WaitingForHost);
        DecidedBy = by;
    }

    public void Approve(string by, string verdictsJson)
    {
        if (State != RequestState.WaitingForApproval) throw Wrong(RequestState.WaitingForHost);
        if (by == Requester)
            throw new BeaconProblem(ProblemCode.OwnRequest, $"Request {Id} is your own; somebody else must approve it.", "Ask a member of the group approvers.");
        (DecidedBy, VerdictsJson) = (by, verdictsJson);
        Version++;
    }

    public void WaitForHost(int certificateId)
    {
        Move(RequestState.WaitingForHost, RequestState.Draft, RequestState.WaitingForApproval);
        CertificateId = certificateId;
    }

    /// <summary>The order that carries this request to its host; set once the order has its number.</summary>
    public void CarriedBy(long orderId) => OrderId = orderId;

    public void KeepCsr(byte[] csr) => Csr = csr;

    public void Issued(int certificateId)
    {
        Move(RequestState.Issued, RequestState.Draft, RequestState.WaitingForApproval, RequestState.WaitingForHost);
        CertificateId = certificateId;
    }

    private void Move(RequestState to, params RequestState[] from)
    {
        if (!from.Contains(State)) throw Wrong(to);
        State = to;
        Version++;
    }

    private BeaconProblem Wrong(RequestState to) => new(ProblemCode.WrongState,
        $"Request {Id} is {BeaconProblem.SlugOf(State).Replace('-', ' ')}; it cannot become {BeaconProblem.SlugOf(to).Replace('-', ' ')}.", $"Look at it first: beacon request show {Id}.");
}
