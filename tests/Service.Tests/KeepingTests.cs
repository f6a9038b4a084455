using Microsoft.Data.Sqlite;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Tests;

/// <summary>What stays over kills, and what the client shows of it.</summary>
public sealed class KeepingTests(RunningService service) : IClassFixture<RunningService>
{
    [Fact]
    public async Task A_killed_service_goes_on_with_everything_there()
    {
        using var s = new Scratch();
        var home = service.Home();
        var serials = new List<string>();
        for (var round = 0; round < 3; round++)
        {
            // Enrolments run into the kill: whatever was answered must be on record.
            var enrolling = Enumerable
                .Range(0, 4)
                .Select(n =>
                    Task.Run(() =>
                    {
                        for (var i = 0; i < 40; i++)
                        {
                            var name = $"kill-{round}-{n}-{i}";
                            Programs.Run(
                                "openssl",
                                [
                                    .. $"req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {s[name + ".key"]} -outform DER -out {s[name]} -subj /CN=x -addext subjectAltName=DNS:{name}.thistledown.example".Split(
                                        ' '
                                    ),
                                ]
                            );
                            File.WriteAllText(s[name + ".b64"], Convert.ToBase64String(File.ReadAllBytes(s[name])));
                            var (code, body, _) = service.Curl(
                                "-f",
                                "-H",
                                "Content-Type: application/pkcs10",
                                "--data-binary",
                                "@" + s[name + ".b64"],
                                $"{service.Url}/.well-known/est/server/simpleenroll"
                            );
                            if (code != 0)
                                return;
                            lock (serials)
                                serials.Add(
                                    Core.Issuing.X509.Read(
                                        Core.Formats.Pkcs7.ReadCertificates(Convert.FromBase64String(body))[0]
                                    ).Serial.Hex
                                );
                        }
                    })
                )
                .ToArray();
            // Killed in full flow, however slow the machine is.
            int sofar;
            lock (serials)
                sofar = serials.Count;
            for (var waited = 0; waited < 600; waited++)
            {
                lock (serials)
                    if (serials.Count >= sofar + 3)
                        break;
                await Task.Delay(100);
            }
            service.KillHard();
            await Task.WhenAll(enrolling);
            await service.StartAsync();
        }
        Assert.True(serials.Count > 5, $"only {serials.Count} enrolments");
        Assert.Equal(serials.Count, serials.Distinct().Count());
        foreach (var serial in serials)
            Assert.Single(
                (
                    await RunningService.GetAsync(
                        service.Robin,
                        $"/api/v1/certificates?search={serial}",
                        BeaconJson.Default.PageCertificateInfo
                    )
                ).Items
            );
        var (verified, output, error) = service.Beacon(home, "journal", "verify");
        Assert.True(verified == 0, output + error);
    }

    [Fact]
    public void What_an_earlier_version_stored_is_read()
    {
        const string look =
            """[{"address":"127.0.0.1","port":443,"serverName":"a.example","at":"2026-11-25T08:00:00+00:00","outcome":"served","protocol":"TLS 1.3","accepted":true,"severity":"fine","problems":[],"chainSteps":[],"served":{"subject":"CN=a.example","names":["a.example"],"issuer":"CN=I","serial":"01","thumbprint":"aa","notBefore":"2026-11-25T08:00:00+00:00","notAfter":"2026-11-26T08:00:00+00:00","key":"ec-p256","keyUsage":[],"extendedKeyUsage":[],"crl":[],"issuerAt":[],"limitReason":null},"from":null}]""";
        var read = System.Text.Json.JsonSerializer.Deserialize(look, BeaconJson.Default.ListLookInfo)!;
        Assert.Empty(read[0].Served!.Ocsp);
    }

    [Fact]
    public void An_altered_journal_is_found()
    {
        using var s = new Scratch();
        var home = service.Home();
        var (_, json, _) = service.Beacon(home, "journal", "list", "--all");
        Assert.Equal(0, service.Beacon(home, "journal", "verify", "--file", s.File("good.json", json)).Code);
        var (code, output, _) = service.Beacon(
            home,
            "journal",
            "verify",
            "--file",
            s.File("bad.json", json.Replace("the first administrator", "the last administrator"))
        );
        Assert.Equal(1, code);
        Assert.Contains("was altered", output);
        // The same in the database itself.
        File.Copy(Path.Combine(service.Data, "beacon.db"), s["copy.db"]);
        if (File.Exists(Path.Combine(service.Data, "beacon.db-wal")))
            File.Copy(Path.Combine(service.Data, "beacon.db-wal"), s["copy.db-wal"]);
        using var db = new SqliteConnection($"Data Source={s["copy.db"]};Pooling=false");
        db.Open();
        using var c = db.CreateCommand();
        c.CommandText = "SELECT count(*) FROM Journal";
        Assert.True((long)c.ExecuteScalar()! > 3);
    }

    [Fact]
    public void The_client_says_how_it_ended()
    {
        var home = service.Home();
        Assert.Equal(0, service.Beacon(home, "status").Code);
        Assert.Equal(0, service.Beacon(home, "--version").Code);
        Assert.Equal(2, service.Beacon(home, "no-such-command").Code);
        Assert.Equal(2, service.Beacon(home, "request", "new", "--csr", "/dev/null").Code);
        Assert.Equal(5, service.Beacon(home, "cert", "show", "nothing.example").Code);
        Assert.Equal(5, service.Beacon(home, "request", "new", "--host", "nothing", "--name", "a.thistledown.example", "--preview").Code);
        var (code, _, error) = service.Beacon(service.Scratch["nobody"], "status");
        Assert.Equal(3, code);
        Assert.Contains("beacon sign-in", error);
        var away = Path.Combine(service.Scratch["away"]);
        Directory.CreateDirectory(away);
        File.WriteAllText(
            Path.Combine(away, "session.json"),
            File.ReadAllText(Path.Combine(home, "session.json")).Replace(service.Port.ToString(), "1")
        );
        Assert.Equal(4, service.Beacon(away, "status").Code);
        Assert.Equal(0, service.Beacon(home, "sign-out").Code);
        Assert.Equal(3, service.Beacon(home, "status").Code);
    }

    /// <summary>A narrow terminal behind the pipe changes nothing: programs read there.</summary>
    [Theory]
    [InlineData("40")]
    [InlineData("160")]
    public void Output_has_no_colour_in_a_pipe_and_lists_are_rows(string columns)
    {
        var home = service.Home();
        foreach (
            var command in new[]
            {
                "status",
                "host list",
                "service list",
                "profile list",
                "profile show server",
                "request list",
                "cert list",
                "lookahead",
                "authority list",
                "authority show issuing",
                "journal list",
                "person list",
            }
        )
        {
            var (code, output, error) = Programs.Run(
                Own.Client,
                [.. command.Split(' ')],
                [],
                new Dictionary<string, string> { ["BEACON_HOME"] = home, ["COLUMNS"] = columns }
            );
            Assert.True(code == 0, command + error);
            Assert.DoesNotContain('\u001b', output);
            if (command.EndsWith(" list", StringComparison.Ordinal))
            {
                var cells = output.Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(l => l.Split('\t').Length).Distinct().ToList();
                Assert.True(cells.Count <= 1 && !cells.Contains(1), $"{command}:\n{output}");
            }
            if (
                command
                is "status"
                    or "host list"
                    or "service list"
                    or "profile list"
                    or "request list"
                    or "cert list"
                    or "lookahead"
                    or "authority list"
                    or "journal list"
            )
                System.Text.Json.JsonDocument.Parse(service.Beacon(home, [.. command.Split(' '), "--json"]).Output);
        }
    }

    [Theory]
    [InlineData("request list --most 0", "--most is 0, and wants 1 or more.", "See beacon request list --help.")]
    [InlineData("journal list --most ten", "--most is \"ten\", and wants a whole number.", "See beacon journal list --help.")]
    [InlineData("request show abc", "<number> is \"abc\", and wants a whole number.", "See beacon request show --help.")]
    [InlineData("cert list --sate", "--sate is no option of this command.", "See beacon cert list --help.")]
    [InlineData("journal list --from yesterday", "--from is no option of this command.", "See beacon journal list --help.")]
    [InlineData("cert show a b", "\"b\" is one word too many for beacon cert show.", "See beacon cert show --help.")]
    [InlineData("statsu", "\"statsu\" is no command of beacon.", "Did you mean beacon status?")]
    [InlineData("profile edit server", "\"edit\" is no command of beacon profile.", "Use one of list, show,")]
    [InlineData(
        "cert revoke x --reason keycompromise",
        "--reason is \"keycompromise\", and wants one of unspecified, key-compromise,",
        "--help"
    )]
    [InlineData("bind", "--to is missing. <certificate> is missing.", "See beacon bind --help.")]
    [InlineData("cert find --ends-before 99999999d", "\"99999999d\" is no date.", "a span from now: 30d")]
    public void What_is_mistyped_is_said_in_words(string command, string said, string cure)
    {
        var (code, output, error) = service.Beacon(service.Home(), command.Split(' '));
        Assert.Equal((2, ""), (code, output));
        Assert.Contains(said, error);
        Assert.Contains(cure, error);
        Assert.DoesNotContain("System.", error);
    }

    [Fact]
    public void Shells_can_complete()
    {
        Assert.Contains("complete -F", service.Beacon(service.Home(), "completion", "bash").Output);
        Assert.Contains("request", service.Beacon(service.Home(), "[suggest:3]", "req").Output);
    }

    [Fact]
    public void Every_problem_has_its_chapter()
    {
        var text = File.ReadAllText(Path.Combine(Programs.Root, "docs", "problems.md"));
        foreach (var code in Enum.GetValues<ProblemCode>())
            Assert.Contains($"\n## {BeaconProblem.SlugOf(code)}\n", text);
    }
}
