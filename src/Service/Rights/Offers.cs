using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.People;

namespace OrderlyBeacon.Service.Rights;

/// <summary>Says beside a thing what its reader may not do with it, so that nobody is offered what would be refused. It is a help: each operation decides again when it is called.</summary>
public sealed class Offers(BeaconOptions options)
{
    private static readonly Operation[] OnHost = [Operation.GiveHost, Operation.RemoveHost, Operation.MeetHost, Operation.SubmitRequest],
        OnService =

        [
            Operation.PlanBinding,
            Operation.BindService,
            Operation.UnbindService,
            Operation.PlanTls,
            Operation.RequireTls,
            Operation.RaiseTls,
            Operation.AllowClearText,
        ],
        OnProvider = [Operation.PlanSigning, Operation.SignWith, Operation.GoOnSigning, Operation.StepBackSigning, Operation.KeepPartner],
        OnCertificate =

        [
            Operation.RenewCertificate,
            Operation.SkipRecords,
            Operation.ChangePolicy,
            Operation.GiveCertificate,
            Operation.RevokeCertificate,
            Operation.ReleaseCertificate,
            Operation.SubmitRequest,
        ],
        Deciding = [Operation.ApproveRequest, Operation.AmendRequest, Operation.RefuseRequest],
        OnRequest =
        [Operation.ApproveRequest, Operation.AmendRequest, Operation.RefuseRequest, Operation.WithdrawRequest, Operation.AcceptAnswer];

    /// <summary>What the caller's groups do not allow, whatever it is about.</summary>
    public IReadOnlyList<Denied> Of(Who who) => Of(who, null, Enum.GetValues<Operation>().Where(o => RightsTable.Of(o).Role != Role.Agent));

    public HostInfo To(Caller caller, HostInfo host) =>
        host with
        {
            Denied = Of(caller.Who, MayAct.HostThing(host.Name, host.Owner), OnHost),
        };

    public ServiceInfo To(Caller caller, ServiceInfo service) =>
        service with
        {
            Denied = Of(caller.Who, MayAct.HostThing(service.Host, service.Owner), OnService),
        };

    public ProviderInfo To(Caller caller, ProviderInfo provider) =>
        provider with
        {
            Denied = Of(caller.Who, MayAct.HostThing(provider.Host, provider.Owner), OnProvider),
        };

    public CertificateInfo To(Caller caller, CertificateInfo certificate) =>
        certificate with
        {
            Denied = Of(caller.Who, MayAct.CertificateThing(certificate.Name, certificate.Owner), OnCertificate),
        };

    public RequestInfo To(Caller caller, RequestInfo request)
    {
        var thing = MayAct.RequestThing(request.Number, request.Requester);
        var denied = Of(caller.Who, thing, OnRequest);
        var holders = request.Verdicts.Where(v => v.Verdict == Verdict.NeedsApproval).Select(v => v.Holders).ToList();
        if (RightsOf.Decide(caller.Who, thing.Called, holders) is not { } notTheirs)
            return request with { Denied = denied };
        // The role may be there, but for other zones.
        var said = denied.SelectMany(d => d.Operations).ToHashSet();
        var more = Deciding.Select(OperationMarks.IdOf).Where(o => !said.Contains(o)).ToList();
        return request with { Denied = more.Count == 0 ? denied : [.. denied, new Denied(more, notTheirs.Reason, notTheirs.Cure)] };
    }

    public CertificateDetail To(Caller caller, CertificateDetail detail) => detail with { Certificate = To(caller, detail.Certificate) };

    public Page<T> To<T>(Page<T> page, Func<T, T> each) => page with { Items = [.. page.Items.Select(each)] };

    private List<Denied> Of(Who who, Thing? thing, IEnumerable<Operation> operations) =>
        [
            .. RightsOf
                .Denied(operations, who, options.Holdings.Groups, thing)
                .Select(d => new Denied([.. d.Operations.Select(OperationMarks.IdOf)], d.Denial.Reason, d.Denial.Cure)),
        ];
}
