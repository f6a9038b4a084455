using System.Text.Json;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Service.Tests;

/// <summary>Profiles as administrators change them, and requests that one or two people approve, in client commands.</summary>
public sealed class ApprovalTests(RunningService service) : IClassFixture<RunningService>
{
    private readonly Dictionary<string, string> _homes = [];

    private (int Code, string Output, string Error) As(string who, params string[] args)
    {
        if (!_homes.TryGetValue(who, out var home))
        {
            home = _homes[who] = service.Scratch["home-" + who + Guid.NewGuid().ToString("N")[..6]];
            var (code, _, error) = service.Beacon(
                home,
                "sign-in",
                "--service",
                service.Url,
                "--name",
                who,
                "--root",
                service.RootPem,
                "--password-file",
                service.Scratch["password"]
            );
            Assert.True(code == 0, error);
        }
        return service.Beacon(home, args);
    }

    private string Good(string who, params string[] args)
    {
        var (code, output, error) = As(who, args);
        Assert.True(code is 0 or 3, $"{who}: {string.Join(' ', args)}\n{output}{error}{service.Errors}");
        return Flat(output);
    }

    private void Bad(string who, string says, params string[] args)
    {
        var (code, output, error) = As(who, args);
        Assert.True(code != 0, output);
        Assert.Contains(says, Flat(error + output));
    }

    private static string Flat(string text) => System.Text.RegularExpressions.Regex.Replace(text, @"\s+", " ");

    private async Task PeopleAsync()
    {
        var there = (await RunningService.GetAsync(service.Robin, "/api/v1/people", BeaconJson.Default.ListPersonInfo))
            .Select(p => p.Name)
            .ToHashSet();
        foreach (var (name, groups) in new[] { ("jay", new[] { "approvers" }), ("dunnock", ["administrators"]) })
            if (!there.Contains(name))
                await RunningService.PostAsync(
                    service.Robin,
                    "/api/v1/people",
                    new NewPerson(name, RunningService.Password, groups),
                    BeaconJson.Default.NewPerson,
                    BeaconJson.Default.PersonInfo
                );
    }

    private string Csr(Scratch s, string names) => EstTests.Make(s, names).Csr;

    private long Ask(Scratch s, string profile, string names, params string[] more)
    {
        var q = JsonDocument
            .Parse(As("robin", ["request", "new", "--csr", Csr(s, names), "--profile", profile, "--json", .. more]).Output)
            .RootElement;
        Assert.Equal("waiting-for-approval", q.GetProperty("state").GetString());
        return q.GetProperty("number").GetInt64();
    }

    [Fact]
    public async Task One_and_two_people_approve_refuse_and_amend_and_never_the_requester()
    {
        await PeopleAsync();
        using var s = new Scratch();
        Good("robin", "profile", "copy", "server", "two-eyes", "--title", "Server, one approval");
        Revise(s, "two-eyes", "approvals: 0", "approvals: 1");
        Good("robin", "profile", "copy", "two-eyes", "four-eyes", "--title", "Server, two approvals");
        Revise(s, "four-eyes", "approvals: 1", "approvals: 2");

        // One: never the requester, although an administrator.
        var one = Ask(s, "two-eyes", "DNS:one.thistledown.example");
        Assert.Contains("0 of 1", Good("wren", "request", "show", one.ToString()));
        Assert.Contains("from 127.0.0.1", Good("wren", "request", "show", one.ToString()));
        Bad("robin", "is your own", "request", "approve", one.ToString());
        Bad("robin", "is your own", "request", "amend", one.ToString(), "--name", "other.thistledown.example", "--reason", "mine");
        Bad("finch", "may not do this", "request", "approve", one.ToString());
        Good("wren", "request", "approve", one.ToString());
        Bad("wren", "is approved already, by wren", "request", "approve", one.ToString());
        Bad("jay", "is approved already, by wren", "request", "approve", one.ToString());
        Assert.Contains("issued", Good("robin", "request", "show", one.ToString()));

        // Two: one is not enough, the same person twice is one; the second one issues.
        var two = Ask(s, "four-eyes", "DNS:two.thistledown.example");
        Assert.Contains("by 1 of 2", Good("wren", "request", "approve", two.ToString()));
        Bad("wren", "have approved", "request", "approve", two.ToString());
        Assert.Contains("waiting for approval", Good("robin", "request", "show", two.ToString()));
        Bad("robin", "no certificate", "cert", "show", "two.thistledown.example@robin");
        Good("jay", "request", "approve", two.ToString());
        Assert.Contains("wren, jay", Good("robin", "request", "show", two.ToString()));
        var path = s["two.pem"];
        Good("robin", "cert", "export", "two.thistledown.example@robin", "--form", "pem", "--out", path);
        Programs.OpenSsl($"verify -CAfile {service.RootPem} -untrusted {s.File("issuing.pem", Good2Pem())} {path}");

        // Refused: the reason reaches the requester.
        var refused = Ask(s, "two-eyes", "DNS:three.thistledown.example");
        Good("jay", "request", "refuse", refused.ToString(), "--reason", "It moves to web02 next week.");
        Assert.Contains("It moves to web02 next week.", Good("robin", "request", "show", refused.ToString()));

        // Amended: judged by the requester's zones, approvals begin anew, the requester sees it; the edition has the amended names.
        var amended = Ask(s, "four-eyes", "DNS:four.thistledown.example,DNS:wrong.thistledown.example");
        Good("wren", "request", "approve", amended.ToString());
        Bad("jay", "It is in no zone", "request", "amend", amended.ToString(), "--name", "four.other.example", "--reason", "test");
        Good(
            "jay",
            "request",
            "amend",
            amended.ToString(),
            "--name",
            "four.thistledown.example",
            "fourth.thistledown.example",
            "--reason",
            "The second name was misspelt."
        );
        var shown = Good("robin", "request", "show", amended.ToString());
        Assert.Contains("0 of 2", shown);
        Assert.Contains("jay amended the names", shown);
        Assert.Contains("The second name was misspelt.", shown);
        Good("wren", "request", "approve", amended.ToString());
        Good("jay", "request", "approve", amended.ToString());
        Bad(
            "jay",
            "names are amended before the approval only",
            "request",
            "amend",
            amended.ToString(),
            "--name",
            "five.thistledown.example",
            "--reason",
            "late"
        );
        Good("robin", "cert", "export", "four.thistledown.example@robin", "--form", "der", "--out", s["four.cer"]);
        Assert.Equal(
            ["four.thistledown.example", "fourth.thistledown.example"],
            X509.Read(File.ReadAllBytes(s["four.cer"])).Names.Select(n => n.Value)
        );

        // Found by number, name and requester; a second request shows what differs from the edition in use.
        var again = Ask(
            s,
            "two-eyes",
            "DNS:four.thistledown.example,DNS:more.thistledown.example",
            "--as",
            "four.thistledown.example@robin"
        );
        Assert.Contains("new names: more.thistledown.example", Good("wren", "request", "show", again.ToString()));
        foreach (var search in new[] { again.ToString(), "more.thistledown", "robin" })
            Assert.Contains($" {again} ", " " + Good("wren", "request", "list", search) + " ");
        Good("robin", "request", "withdraw", again.ToString());
        Bad("wren", "withdrawn", "request", "approve", again.ToString());

        // The journal has all of it, and holds.
        var journal = Good("robin", "journal", "list", "request.", "--most", "200", "--json");
        foreach (
            var entry in new[]
            {
                "request.submitted",
                "request.approved",
                "request.refused",
                "request.amended",
                "request.withdrawn",
                "1 of 2",
                "2 of 2",
                "misspelt",
            }
        )
            Assert.Contains(entry, journal);
        Good("robin", "journal", "verify");

        string Good2Pem() => As("robin", "authority", "show", "issuing", "--pem").Output;
    }

    private void Revise(Scratch s, string id, string before, string after)
    {
        var file = s[id + ".yaml"];
        Good("robin", "profile", "export", id, "--out", file);
        var text = File.ReadAllText(file);
        Assert.Contains(before, text);
        File.WriteAllText(file, text.Replace(before, after));
        Good("robin", "profile", "import", file);
    }

    [Fact]
    public async Task An_approved_request_is_issued_after_a_restart()
    {
        await PeopleAsync();
        using var s = new Scratch();
        if (As("robin", "profile", "show", "kept-eyes").Code != 0)
            Good("robin", "profile", "copy", "device", "kept-eyes");
        var number = Ask(s, "kept-eyes", "DNS:kept.thistledown.example");
        // The key away: the approval stands, the edition waits and is made when the key is back.
        var key = Directory.EnumerateFiles(Path.Combine(service.Data, "keys"), "issuing--*.key.pem").Single();
        service.KillHard();
        File.Move(key, key + ".away");
        await service.StartAsync(new Dictionary<string, string> { ["BEACON_HEALTHMINUTES"] = "60" });
        Good("wren", "request", "approve", number.ToString());
        Assert.Contains("waiting outside", Good("robin", "request", "show", number.ToString()));
        Assert.Contains("cannot be read", Good("robin", "request", "show", number.ToString()));
        Assert.Contains("1 of 1", Good("robin", "request", "show", number.ToString()));
        Assert.Contains("granted request waits for the authority's key", Good("robin", "status"));
        File.Move(key + ".away", key);
        for (var i = 0; i < 100 && !Good("robin", "request", "show", number.ToString()).Contains(" issued"); i++)
            await Task.Delay(200, TestContext.Current.CancellationToken);
        Assert.Contains(" issued", Good("robin", "request", "show", number.ToString()));
    }

    [Fact]
    public void A_profile_is_copied_changed_compared_offered_and_withdrawn()
    {
        using var s = new Scratch();
        var list = Good("robin", "profile", "list");
        foreach (
            var id in new[]
            {
                "server",
                "server-and-client",
                "mail-server",
                "directory-server",
                "database-server",
                "database-client",
                "federation-signing",
                "federation-service",
                "file-transfer",
                "device",
                "agent",
                "responder",
                "subordinate",
            }
        )
            Assert.Contains(id, list);
        Good("robin", "profile", "copy", "server", "depot", "--title", "Depot servers");
        Revise(s, "depot", "life: 90d", "life: 30d");
        Revise(s, "depot", "fixed: \"\"", "fixed: \"O=Thistledown Rail,OU=Depots\"");
        Assert.Contains("- life: 90d", Good("robin", "profile", "diff", "depot", "--from", "1", "--to", "3"));
        Assert.Contains("+ fixed: ", Good("robin", "profile", "diff", "depot"));
        Assert.Contains("life: 90d", As("robin", "profile", "export", "depot", "--revision", "1").Output);
        Bad("robin", "says the same already", "profile", "import", s["depot.yaml"]);
        Bad("wren", "may not do this", "profile", "import", s["depot.yaml"]);

        // What would this request get, without submitting; the edition points to the revision.
        var csr = Csr(s, "DNS:depot.thistledown.example");
        Assert.Contains("OU=Depots", Good("robin", "request", "new", "--csr", csr, "--profile", "depot", "--preview"));
        Good("robin", "request", "new", "--csr", csr, "--profile", "depot");
        Assert.Equal(
            3,
            JsonDocument
                .Parse(As("robin", "cert", "show", "depot.thistledown.example@robin", "--json").Output)
                .RootElement.GetProperty("editions")[0]
                .GetProperty("profileRevision")
                .GetInt32()
        );
        Good("robin", "profile", "withdraw", "depot");
        Bad("robin", "is withdrawn", "request", "new", "--csr", Csr(s, "DNS:depot2.thistledown.example"), "--profile", "depot");
        Good("robin", "profile", "offer", "depot");
        Bad("robin", "could not go on", "profile", "withdraw", "agent");

        // What makes no sense is refused with the reason; what cannot be read, with the line.
        var good = File.ReadAllText(s["depot.yaml"]);
        foreach (
            var (before, after, says) in new[]
            {
                (
                    "keyUsage: [digital-signature, key-encipherment]",
                    "keyUsage: [digital-signature, key-cert-sign]",
                    "could certify anything"
                ),
                ("life: 30d", "life: 9000d", "longer than the authority's own"),
                ("life: 30d", "life: 30", "is not a life"),
                ("hostNames: true", "hostNames: false", "host names are not"),
                ("approvals: 0", "approvals: 3", "must be 0, 1 or 2"),
                ("approvals: 0", "approvals: many", "another kind"),
                ("keys: [", "keys: [ec-p192, ", "is not a kind of key"),
                ("extendedKeyUsage: [tls-server]", "extendedKeyUsage: [tls-server, ocsp-signing]", "could call any certificate good"),
                ("title: ", "titel: ", "\"titel\" is not one"),
                ("title: ", "title: \"", "Line "),
                ("within: []", "within: [not a zone]", "cannot be read"),
            }
        )
        {
            Assert.Contains(before, good);
            Bad("robin", says, "profile", "import", s.File("bad.yaml", good.Replace(before, after)));
        }
        Assert.Contains("revision 3", Good("robin", "profile", "show", "depot"));

        // Within, most, and who may ask.
        File.WriteAllText(
            s["depot.yaml"],
            good.Replace("within: []", "within: [depots.thistledown.example]")
                .Replace("most: 250", "most: 2")
                .Replace("mayAsk: []", "mayAsk: [depot-keepers]")
        );
        Good("robin", "profile", "import", s["depot.yaml"]);
        Bad("robin", "for members of depot-keepers", "request", "new", "--csr", csr, "--profile", "depot", "--preview");
        File.WriteAllText(
            s["depot.yaml"],
            File.ReadAllText(s["depot.yaml"]).Replace("mayAsk: [depot-keepers]", "mayAsk: [administrators]")
        );
        Good("robin", "profile", "import", s["depot.yaml"]);
        var names = string.Join(',', new[] { "a.depots", "b.depots", "c.depots", "d" }.Select(n => $"DNS:{n}.thistledown.example"));
        var (_, preview, _) = As("robin", "request", "new", "--csr", Csr(s, names), "--profile", "depot", "--preview", "--json");
        Assert.Equal(
            ["zone-held", "zone-held", "profile-too-many", "profile-too-many"],
            JsonDocument
                .Parse(preview)
                .RootElement.GetProperty("verdicts")
                .EnumerateArray()
                .Select(v => v.GetProperty("reason").GetString())
        );

        // The schema names the fields that the file has.
        var schema = JsonDocument
            .Parse(service.Curl($"{service.Url}/api/profile.schema.json").Output)
            .RootElement.GetProperty("properties");
        var fields = good.Split('\n').Where(l => l.Length > 0 && char.IsLetter(l[0])).Select(l => l.Split(':')[0]).ToList();
        Assert.All(fields, f => Assert.True(schema.TryGetProperty(f, out _), f));
        Assert.Contains("profile.revised", Good("robin", "journal", "list", "profile.", "--json"));
    }

    [Fact]
    public void What_a_csr_lacks_may_be_added_and_is_judged_as_any_name()
    {
        using var s = new Scratch();
        var csr = Csr(s, "DNS:brought.thistledown.example");
        Bad("robin", "no zone", "request", "new", "--csr", csr, "--name", "brought.other.example");
        Good("robin", "request", "new", "--csr", csr, "--name", "added.thistledown.example");
        foreach (
            var (form, ending) in new[]
            {
                ("pem", ".pem"),
                ("chain", "--chain.pem"),
                ("der", ".cer"),
                ("pkcs7", ".p7b"),
                ("pkcs7-pem", ".p7b.pem"),
            }
        )
        {
            var folder = Directory.CreateDirectory(s["taken-" + form]).FullName;
            var (code, output, error) = Programs.Run(
                "bash",
                ["-c", $"cd {folder} && exec {Own.Client} cert export brought.thistledown.example@robin --form {form}"],
                [],
                new Dictionary<string, string> { ["BEACON_HOME"] = _homes["robin"] }
            );
            Assert.True(code == 0, error);
            var file = Path.GetFileName(Assert.Single(Directory.EnumerateFiles(folder)));
            Assert.StartsWith("brought.thistledown.example@robin--20", file);
            Assert.EndsWith(ending, file);
            var items = FileInspection.Inspect(File.ReadAllBytes(Path.Combine(folder, file)));
            Assert.NotEmpty(items);
        }
        var text = Programs.OpenSsl($"x509 -noout -ext subjectAltName -in {Directory.EnumerateFiles(s["taken-pem"]).Single()}");
        Assert.Contains("added.thistledown.example", text);
        Assert.Contains("brought.thistledown.example", text);
    }
}
