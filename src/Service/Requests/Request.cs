using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Requests;

/// <summary>One wish for one edition; its number is its key.</summary>
public sealed class Request
{
    public long Id { get; private init; }

    /// <summary>The ledger alone makes it <see cref="RequestState.Issued"/>, from the states that it expects.</summary>
    public RequestState State { get; private set; }
    public int? CertificateId { get; private set; }
    public string CertificateName { get; init; } = "";
    public int? HostId { get; init; }
    public string Profile { get; init; } = "";

    /// <summary>In whose name: a person, or the group that owns the certificate that is renewed.</summary>
    public string Requester { get; init; } = "";

    /// <summary><c>person</c>, <c>renewal</c> or <c>est</c>.</summary>
    public string Cause { get; init; } = "";
    public string Subject { get; internal set; } = "";
    public string NamesJson { get; internal set; } = "[]";

    /// <summary>How many people must approve it, the requester left out.</summary>
    public int Needed { get; private set; }

    /// <summary>Whether all who must have approved it. For a CSR the edition follows; until then a restart goes on with it.</summary>
    public bool Approved { get; private set; }
    public string ApprovalsJson { get; private set; } = "[]";
    public string AmendmentsJson { get; private set; } = "[]";

    /// <summary>The address it came from.</summary>
    public string? From { get; init; }
    public string VerdictsJson { get; internal set; } = "[]";
    public string FindingsJson { get; init; } = "[]";
    public string Key { get; init; } = "";
    public string? Life { get; init; }
    public byte[]? Csr { get; internal set; }

    /// <summary>The authority that is not ours which signs it; null when ours does.</summary>
    public string? Outside { get; init; }

    /// <summary>SHA-256 over the public key that an answer from outside must have; null until its CSR is made.</summary>
    public string? AnswerKey { get; private set; }

    /// <summary>An answer that differs from what was asked, and waits for somebody's decision.</summary>
    public string? HeldJson { get; private set; }

    /// <summary>The certificates of that answer, PEM.</summary>
    public string? HeldChain { get; private set; }
    public string BindToJson { get; init; } = "[]";
    public int? Port { get; init; }
    public double? RenewAfter { get; init; }
    public string? Note { get; init; }
    public string? Reason { get; private set; }
    public string? DecidedBy { get; private set; }
    public DateTimeOffset At { get; init; }
    public long? OrderId { get; private set; }
    public long Version { get; private set; } = 1;

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

    /// <summary>It was granted and given to its host, and when the CSR came it was not granted any more.</summary>
    public void RefuseLate(string reason)
    {
        Move(RequestState.Refused, RequestState.WaitingForHost, RequestState.WaitingOutside);
        (Reason, DecidedBy) = (reason, "rules");
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

    /// <summary>Its host has made the key and the CSR: somebody carries it to an authority that is not ours.</summary>
    public void WaitForAnswer(byte[] csr, string key)
    {
        Move(RequestState.WaitingOutside, RequestState.WaitingForHost);
        (Csr, AnswerKey) = (csr, key);
    }

    /// <summary>Its host has made the key and the CSR; the edition is issued when DNS speaks of that key.</summary>
    public void Prepared(byte[] csr)
    {
        Move(RequestState.WaitingForHost, RequestState.WaitingForHost);
        Csr = csr;
    }

    /// <summary>An answer came that is not what was asked for.</summary>
    public void Hold(string heldJson, string chain)
    {
        Move(RequestState.WaitingOutside, RequestState.WaitingOutside);
        (HeldJson, HeldChain) = (heldJson, chain);
    }

    /// <summary>The answer from outside is on record.</summary>
    public void Answered(string? by)
    {
        Move(RequestState.Issued, RequestState.WaitingOutside);
        (HeldJson, HeldChain, Reason) = (null, null, null);
        DecidedBy = by ?? DecidedBy;
    }

    /// <summary>One more person approves.</summary>
    /// <returns>Whether there are as many as it needs, so that it can be decided again.</returns>
    public bool Approve(string by, DateTimeOffset at)
    {
        var approvals = Approvals;
        var wasApproved = Approved || (approvals.Count > 0 && State is RequestState.Issued or RequestState.WaitingForHost);
        if (wasApproved)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"Request {Id} is approved already, by {string.Join(" and ", approvals.Select(a => a.By))}.",
                $"Nothing to do; what became of it: beacon request show {Id}."
            );
        if (State != RequestState.WaitingForApproval)
            throw Wrong(RequestState.WaitingForHost);
        if (approvals.Any(a => a.By == by))
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"You have approved request {Id} already; {Needed} people must approve it.",
                "Ask somebody else of the group approvers."
            );
        approvals.Add(new(by, at));
        ApprovalsJson = JsonSerializer.Serialize(approvals, BeaconJson.Default.ListApprovalInfo);
        DecidedBy = string.Join(", ", approvals.Select(a => a.By));
        Version++;
        return approvals.Count >= Needed;
    }

    /// <summary>Those who approved were not those who had to: more are needed.</summary>
    public void NeedMore(int people) => Needed = people;

    /// <summary>It is granted with what people approved.</summary>
    public void ApprovedByAll() => Approved = true;

    /// <summary>Other names, before the approval. What was approved so far was the old names: it counts no more.</summary>
    public void Amend(AmendmentInfo amendment, string verdictsJson, string subject, int needed)
    {
        if (State != RequestState.WaitingForApproval)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"Request {Id} is {BeaconProblem.SlugOf(State).Replace('-', ' ')}; names are amended before the approval only.",
                $"Look at it first: beacon request show {Id}."
            );
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

    /// <summary>Takes back what somebody approved who may approve no more.</summary>
    /// <returns>Whether there was such an approval.</returns>
    public bool DropApprovals(Func<string, bool> isOf)
    {
        var left = Approvals.Where(a => !isOf(a.By)).ToList();
        if (State != RequestState.WaitingForApproval || Approved || left.Count == Approvals.Count)
            return false;
        ApprovalsJson = JsonSerializer.Serialize(left, BeaconJson.Default.ListApprovalInfo);
        DecidedBy = left.Count == 0 ? null : string.Join(", ", left.Select(a => a.By));
        Version++;
        return true;
    }

    public void WaitForHost(int certificateId)
    {
        Move(RequestState.WaitingForHost, RequestState.Draft, RequestState.WaitingForApproval);
        CertificateId = certificateId;
    }

    /// <summary>The order that carries this request to its host; set once the order has its number.</summary>
    public void CarriedBy(long orderId) => OrderId = orderId;

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
