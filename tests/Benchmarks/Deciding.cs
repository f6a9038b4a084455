using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Profiles;
using OrderlyBeacon.Core.Requests;
using OrderlyBeacon.Core.Rights;

namespace OrderlyBeacon.Benchmarks;

/// <summary>What it costs to ask whether somebody may act, and to decide subject and names, for one enrolment.</summary>
internal static class Deciding
{
    /// <summary>A hundred names, each decided on what directory and DNS said, against reading the CSR that brings them.</summary>
    public static void ManyNames(Action<string, double, double, string> report)
    {
        using var key = KeySigner.NewKey(KeySpec.P256);
        string[] names = [.. Enumerable.Range(0, 100).Select(i => $"n{i}.thistledown.example")];
        var csr = CertificationRequest.Write(
            DistinguishedName.ForCommonName(names[0]),
            [.. names.Select(n => AlternativeName.Dns(DnsName.Parse(n)))],
            new KeySigner(key)
        );
        var profile = StartingSet.All.Single(p => p.Id == "server");
        var facts = new NameFacts
        {
            HostName = "web07.thistledown.example",
            Groups = ["directory:web-servers", "directory:all-servers"],
            Zones =
            [
                .. Enumerable.Range(0, 20).Select(i => new ZoneHolding(DnsName.Parse($"z{i}.example"), "g" + i)),
                new(DnsName.Parse("thistledown.example"), "office"),
            ],
            Computer = new(
                "WEB07$",
                ["web07.thistledown.example"],
                names.Take(30).ToDictionary(n => n, n => "HTTP/" + n),
                [],
                DateTimeOffset.UtcNow
            ),
            OtherComputers = names.Skip(90).ToDictionary(n => n, _ => "WEB08$"),
            Dns = names.ToDictionary(
                n => n,
                n => new DnsFacts(["front.thistledown.example", "web07.thistledown.example"], ["10.4.0.7"], null)
            ),
        };
        var reading = Program.CpuMicroseconds(500, () => _ = CertificationRequest.Read(csr), Environment.ProcessorCount);
        var deciding = Program.CpuMicroseconds(500, () => _ = NameDecision.Decide(names, profile, facts, []), Environment.ProcessorCount);
        report("verdicts for 100 names ÷ reading their CSR", deciding / reading, 10, "x");
    }

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
