using System.Text.Json;
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
    public string Subject { get; private set; } = "";
    public string NamesJson { get; private set; } = "[]";

    /// <summary>How many people must approve it, the requester left out.</summary>
    public int Needed { get; private set; }

    /// <summary>Whether all who must have approved it. For a CSR the edition follows; until then a restart goes on with it.</summary>
    public bool Approved { get; private set; }
    public string ApprovalsJson { get; private set; } = "[]";
    public string AmendmentsJson { get; private set; } = "[]";

    /// <summary>The address it came from.</summary>
    public string? From { get; private init; }
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

    public static Request Of(
        DateTimeOffset at,
        string requester,
        string cause,
        string certificateName,
        int? hostId,
        string profile,
        string subject,
        string namesJson,
        string verdictsJson,
        string findingsJson,
        string key,
        string? life,
        byte[]? csr,
        string bindToJson,
        int? port,
        double? renewAfter,
        string? note,
        string? from
    ) =>
        new()
        {
            At = at,
            Requester = requester,
            Cause = cause,
            CertificateName = certificateName,
            HostId = hostId,
            Profile = profile,
            Subject = subject,
            NamesJson = namesJson,
            VerdictsJson = verdictsJson,
            FindingsJson = findingsJson,
            Key = key,
            Life = life,
            Csr = csr,
            BindToJson = bindToJson,
            Port = port,
            RenewAfter = renewAfter,
            Note = note,
            From = from,
            State = RequestState.Draft,
        };

    public void WaitForApproval(int people)
    {
        Move(RequestState.WaitingForApproval, RequestState.Draft);
        Needed = people;
    }

    public void Refuse(string reason, string by)
    {
        Move(RequestState.Refused, RequestState.Draft, RequestState.WaitingForApproval, RequestState.WaitingOutside);
        (Reason, DecidedBy) = (reason, by);
    }

    public void Withdraw(string by)
    {
        Move(RequestState.Withdrawn, RequestState.WaitingForApproval, RequestState.WaitingForHost, RequestState.WaitingOutside);
        DecidedBy = by;
    }

    /// <summary>It is granted, but the authority cannot sign now: it waits, and goes on by itself.</summary>
    public void WaitForAuthority(string why)
    {
        Move(RequestState.WaitingOutside, RequestState.Draft, RequestState.WaitingForApproval, RequestState.WaitingOutside);
        (Approved, Reason) = (true, why);
    }

    /// <summary>One more person approves.</summary>
    /// <returns>Whether that was the last one it needed.</returns>
    public bool Approve(string by, DateTimeOffset at)
    {
        if (State != RequestState.WaitingForApproval || Approved)
            throw Wrong(RequestState.WaitingForHost);
        ThrowIfOwn(by);
        var approvals = Approvals;
        if (approvals.Any(a => a.By == by))
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"You have approved request {Id} already; it needs {Needed} people.",
                "Ask somebody else of the group approvers."
            );
        approvals.Add(new(by, at));
        ApprovalsJson = JsonSerializer.Serialize(approvals, BeaconJson.Default.ListApprovalInfo);
        DecidedBy = string.Join(", ", approvals.Select(a => a.By));
        Version++;
        return Approved = approvals.Count >= Needed;
    }

    /// <summary>Other names, before the approval. What was approved so far was the old names: it counts no more.</summary>
    public void Amend(AmendmentInfo amendment, string verdictsJson, string subject, int needed)
    {
        if (State != RequestState.WaitingForApproval)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"Request {Id} is {BeaconProblem.SlugOf(State).Replace('-', ' ')}; names are amended before the approval only.",
                $"Look at it first: beacon request show {Id}."
            );
        ThrowIfOwn(amendment.By);
        AmendmentsJson = JsonSerializer.Serialize([.. Amendments, amendment], BeaconJson.Default.ListAmendmentInfo);
        (NamesJson, VerdictsJson, Subject, ApprovalsJson, DecidedBy, Needed) = (
            Shapes.Json(amendment.After),
            verdictsJson,
            subject,
            "[]",
            null,
            needed
        );
        Version++;
    }

    public List<ApprovalInfo> Approvals => JsonSerializer.Deserialize(ApprovalsJson, BeaconJson.Default.ListApprovalInfo)!;

    public List<AmendmentInfo> Amendments => JsonSerializer.Deserialize(AmendmentsJson, BeaconJson.Default.ListAmendmentInfo)!;

    /// <summary>What the approvals made of the verdicts.</summary>
    public void Grant(string verdictsJson) => VerdictsJson = verdictsJson;

    private void ThrowIfOwn(string by)
    {
        if (by == Requester)
            throw new BeaconProblem(
                ProblemCode.OwnRequest,
                $"Request {Id} is your own; somebody else must approve it.",
                "Ask a member of the group approvers."
            );
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
        if (!from.Contains(State))
            throw Wrong(to);
        State = to;
        Version++;
    }

    private BeaconProblem Wrong(RequestState to) =>
        new(
            ProblemCode.WrongState,
            $"Request {Id} is {BeaconProblem.SlugOf(State).Replace('-', ' ')}; it cannot become {BeaconProblem.SlugOf(to).Replace('-', ' ')}.",
            $"Look at it first: beacon request show {Id}."
        );
}
