using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Rights;

namespace OrderlyBeacon.Benchmarks;

/// <summary>What it costs to ask whether somebody may act, and to decide subject and names, for one enrolment.</summary>
internal static class Deciding
{
    public static double Microseconds(string body)
    {
        var csr = CertificationRequest.Read(Convert.FromBase64String(body));
        var profile = StartingSet.All.Single(p => p.Id == "server");
        string[] groups = [Who.Administrators, "web"];
        var who = new Who("robin", groups, null);
        var zones = new[] { new ZoneHolding(DnsName.Parse("thistledown.example"), Who.Administrators) };
        var now = DateTimeOffset.UtcNow;
        void Once()
        {
            if (RightsOf.Role(Operation.SubmitRequest, who, groups) is not null)
                throw new InvalidOperationException("a right is missing");
            _ = RightsOf.Thing(Operation.RenewCertificate, who, new("n1", "robin"));
            var subject = SubjectDecision.Decide(null, csr.Subject, csr.Names, profile);
            var facts = new NameFacts { Groups = groups, Zones = zones };
            string[] names = [.. csr.Names.Select(n => n.ToString())];
            if (EnrolmentDecision.Decide(new(profile, names, facts, subject.Subject, "robin", [], [], now)).Granted is null)
                throw new InvalidOperationException("the name was not granted");
        }
        return Program.CpuMicroseconds(2000, Once, Environment.ProcessorCount);
    }
}
