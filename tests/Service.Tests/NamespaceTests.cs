namespace OrderlyBeacon.Service.Tests;

/// <summary>
/// What needs addresses and names that are not this machine's loopback: service, agent and client run in a network namespace of their own, which ends with the shell.
/// </summary>
public sealed class NamespaceTests
{
    private const string Prepare = """
        set -euo pipefail
        trap 'kill $(jobs -p) 2>/dev/null || true' EXIT
        ip link set lo up
        for n in 1 2 3; do ip address add 10.44.0.$n/32 dev lo; done
        printf '127.0.0.1 localhost\n10.44.0.3 false.thistledown.example\n' >hosts
        mount --bind hosts /etc/hosts
        export BEACON_DATA=$PWD/data BEACON_PORT=7443 BEACON_PUBLICATIONPORT=7480 BEACON_HOME=$PWD/home BEACON_ZONES=thistledown.example=administrators
        export BEACON_FIRSTNAME=robin BEACON_FIRSTPASSWORDFILE=$PWD/password BEACON_FRESHMINUTES=600 BEACON_BOUNDS=none
        $SERVICE >service.log 2>&1 &
        for i in $(seq 600); do curl -fs http://127.0.0.1:7480/readyz >/dev/null && break; sleep 0.1; done
        beacon() { $CLIENT "$@"; }
        flat() { tr -s ' \n' ' ' | sed "s/^/$1: /; s/\$/\n/"; }
        agent() { $AGENT "$@"; }
        beacon sign-in --service https://localhost:7443 --name robin --root data/root.pem --password-file password >/dev/null
        beacon host invite kiosk.thistledown.example --json | grep -o '"code": *"[^"]*"' | cut -d'"' -f4 >code
        agent join --state kiosk --service https://localhost:7443 --host kiosk.thistledown.example --code-file code --nginx /nowhere/nginx.conf >/dev/null

        """;

    [Fact]
    public void The_service_meets_an_agent_at_its_own_address_and_nowhere_else()
    {
        var seen = Run(
            """
            agent run --state kiosk >agent.log 2>&1 &
            for i in $(seq 100); do beacon host list --json | grep -q '"online": *true' && break; sleep 0.2; done
            beacon request new --host kiosk.thistledown.example --name kiosk.thistledown.example --name ip:10.44.0.2 --preview | flat before || true
            beacon host meet kiosk.thistledown.example 10.44.0.2 | flat met
            beacon request new --host kiosk.thistledown.example --name kiosk.thistledown.example --name ip:10.44.0.2 --preview | flat after
            beacon host meet kiosk.thistledown.example 10.44.0.9 2>&1 | flat nobody || echo "not met: $?"
            beacon host meet kiosk.thistledown.example 127.0.0.1 2>&1 | flat never || echo "not met: $?"
            beacon journal list host.met | flat journal
            """
        );
        Assert.Contains("met the agent of kiosk.thistledown.example there", seen);
        Assert.Contains("cannot wait at 10.44.0.9", seen);
        Assert.Equal(2, seen.Split("not met: ").Length - 1);
        Assert.Contains("its agent answered at 10.44.0.2", seen);
        string Lines(string prefix) => string.Join('\n', seen.Split('\n').Where(l => l.StartsWith(prefix, StringComparison.Ordinal)));
        Assert.Contains("approv", Lines("before: "));
        Assert.Contains("The service connected to it and met the agent", Lines("after: "));
    }

    [Fact]
    public void An_agent_speaks_to_nobody_who_lacks_the_services_mark()
    {
        var seen = Run(
            """
            openssl req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout false.key -subj / -addext subjectAltName=DNS:false.thistledown.example -outform DER 2>/dev/null | base64 -w0 >csr
            curl -fsS --cacert data/root.pem -u "robin:$(cat password)" -H 'Content-Type: application/pkcs10' --data-binary @csr https://localhost:7443/.well-known/est/server/simpleenroll >answer
            base64 -d answer | openssl pkcs7 -inform DER -print_certs -out false.pem
            curl -fsS http://127.0.0.1:7480/issuer/issuing.cer | openssl x509 -inform DER -out issuing.pem
            openssl s_server -accept 10.44.0.3:9443 -cert false.pem -key false.key -cert_chain issuing.pem >false.log 2>&1 < <(sleep 90) &
            sleep 1
            openssl s_client -connect 10.44.0.3:9443 -servername false.thistledown.example -verify_hostname false.thistledown.example -CAfile data/root.pem </dev/null 2>/dev/null >seen || true
            grep 'Verify return code' seen
            sha256sum kiosk/identity/anchors.pem >anchors
            sed -i 's#https://localhost:7443/*#https://false.thistledown.example:9443/#' kiosk/agent.json
            timeout 12 $AGENT run --state kiosk >agent.log 2>&1 || true
            sed 's/^/agent: /' agent.log
            sed 's/^/false: /' false.log
            sha256sum -c anchors
            """
        );
        // For everybody else it is a good certificate of our own authority.
        Assert.Contains("Verify return code: 0 (ok)", seen);
        Assert.Contains("false.thistledown.example", seen);
        Assert.Matches("agent: .*its certificate lacks the service's mark", seen);
        Assert.DoesNotContain("agent/work", seen);
        Assert.DoesNotContain("agent/report", seen);
        Assert.Contains("anchors.pem: OK", seen);
    }

    private static string Run(string script)
    {
        using var s = new Scratch();
        s.File("password", RunningService.Password);
        s.File("run", Prepare + script);
        var (code, output, error) = Programs.Run(
            "unshare",
            ["--map-root-user", "--net", "--mount", "--", "bash", "-c", $"cd {s.Path} && exec bash run"],
            [],
            new Dictionary<string, string>
            {
                ["SERVICE"] = Own.Service,
                ["CLIENT"] = Own.Client,
                ["AGENT"] = Own.Agent,
            }
        );
        Assert.True(code == 0, $"{output}\n{error}\n{Log(s, "service.log")}\n{Log(s, "agent.log")}");
        return output;
    }

    private static string Log(Scratch s, string name) => File.Exists(s[name]) ? File.ReadAllText(s[name]) : "";
}
