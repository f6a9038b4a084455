using System.Net;
using System.Net.Http.Json;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using System.Text.Json.Nodes;
using Microsoft.Data.Sqlite;

namespace OrderlyBeacon.Service.Tests;

/// <summary>What a call answered: its status, and its JSON where it has some.</summary>
internal sealed record Answer(HttpStatusCode Status, JsonNode? Json)
{
    public string Code => (Json as JsonObject)?["code"]?.GetValue<string>() ?? "";
    public string Detail => (Json as JsonObject)?["detail"]?.GetValue<string>() ?? "";
    public bool IsDone => (int)Status < 300;

    public override string ToString() => $"{(int)Status} {Json}";
}

/// <summary>
/// A service on which several groups hold a zone each: jay requests in branch.example (web), magpie in yard.example (yard), finch reads, wren approves, robin administers.
/// Hosts join with the real agent.
/// </summary>
public class AttackedWorld : RunningService, IAsyncLifetime
{
    public const string Zones = "thistledown.example=administrators;branch.example=web;yard.example=yard;10.20.0.0/16=web";

    /// <summary>What the service's own certificate has.</summary>
    public static readonly string[] OfTheService = ["localhost", "127.0.0.1", "beacon.branch.example"];

    public AttackedWorld()
    {
        Settings["BEACON_ZONES"] = Zones;
        Settings["BEACON_NAMES"] = string.Join(',', OfTheService);
        Settings["BEACON_BOUNDS"] = "none";
        Settings["BEACON_SWEEPS"] = "127.90.0.0/22, 127.91.0.7";
    }

    public HttpClient Jay { get; private set; } = null!;
    public HttpClient Magpie { get; private set; } = null!;
    public HttpClient Finch { get; private set; } = null!;

    async ValueTask IAsyncLifetime.InitializeAsync()
    {
        await InitializeAsync();
        foreach (var (name, group) in new[] { ("jay", "web"), ("magpie", "yard") })
            Assert.True(
                (
                    await CallAsync(Robin, "POST", "people", $$"""{"name":"{{name}}","password":"{{Password}}","groups":["{{group}}"]}""")
                ).IsDone
            );
        Jay = await SignInAsync("jay");
        Magpie = await SignInAsync("magpie");
        Finch = await SignInAsync("finch");
    }

    internal static async Task<Answer> CallAsync(HttpClient http, string method, string path, string? json = null, string? key = null)
    {
        using var m = new HttpRequestMessage(new(method), path.StartsWith('/') ? path : "/api/v1/" + path);
        if (json is not null)
            m.Content = new StringContent(json, Encoding.UTF8, "application/json");
        if (key is not null)
            m.Headers.Add("Idempotency-Key", key);
        if (method == "PUT")
            m.Headers.TryAddWithoutValidation("If-Match", "*");
        using var answer = await http.SendAsync(m);
        var text = await answer.Content.ReadAsStringAsync();
        JsonNode? node = null;
        if (text.StartsWith('{') || text.StartsWith('['))
            node = JsonNode.Parse(text);
        return new(answer.StatusCode, node);
    }

    /// <summary>A request of somebody, with a CSR of their own unless a host is named; its state in words when it was recorded.</summary>
    internal static async Task<(Answer Answer, string State)> AskAsync(HttpClient who, JsonObject wish, string? key = null)
    {
        var answer = await CallAsync(who, "POST", "requests", wish.ToJsonString(), key);
        return (answer, answer.IsDone ? answer.Json!["state"]!.GetValue<string>() : "not taken");
    }

    internal static JsonObject Wish(
        string? csr = null,
        string? host = null,
        string? certificate = null,
        string profile = "server",
        params string[] names
    ) =>
        new()
        {
            ["host"] = host,
            ["profile"] = profile,
            ["csr"] = csr,
            ["certificate"] = certificate,
            ["names"] = names.Length == 0 ? null : new JsonArray([.. names.Select(n => (JsonNode)n)]),
        };

    /// <summary>Joins a host with the real agent; its folder is kept.</summary>
    internal async Task<(HttpClient Agent, string Folder)> JoinAsync(Scratch s, string host, string? owner = null)
    {
        var folder = s["agent-" + Guid.NewGuid().ToString("N")[..8]];
        var (code, error) = Join(folder, host, await InviteAsync(host, owner));
        Assert.True(code == 0, error);
        return (AgentOf(folder), folder);
    }

    internal async Task<string> InviteAsync(string host, string? owner = null)
    {
        var wish = new JsonObject { ["name"] = host, ["owner"] = owner };
        var invited = await CallAsync(Robin, "POST", "hosts", wish.ToJsonString());
        Assert.True(invited.IsDone, invited.ToString());
        return invited.Json!["code"]!.GetValue<string>();
    }

    internal (int Code, string Error) Join(string folder, string host, string joinCode)
    {
        var (code, output, error) = Programs.Run(
            Own.Agent,
            [.. $"join --state {folder} --service {Url} --host {host} --code-file - --nginx /nowhere/nginx.conf".Split(' ')],
            Encoding.ASCII.GetBytes(joinCode)
        );
        return (code, output + error);
    }

    /// <summary>Speaks as an agent does, with what its folder has.</summary>
    internal HttpClient AgentOf(string folder)
    {
        var current = Path.Combine(folder, "identity", "current");
        using var pem = X509Certificate2.CreateFromPemFile(Path.Combine(current, "chain.pem"), Path.Combine(current, "key.pem"));
        return Client(certificate: X509CertificateLoader.LoadPkcs12(pem.Export(X509ContentType.Pfx), null));
    }

    internal static async Task ReportAsync(HttpClient agent, string[] addresses, string[] serves, string address = "127.0.0.9")
    {
        var services = serves.Select(name =>
            (JsonNode)
                new JsonObject
                {
                    ["connector"] = "nginx",
                    ["name"] = name,
                    ["names"] = new JsonArray(name),
                    ["endpoints"] = new JsonArray(
                        new JsonObject
                        {
                            ["address"] = address,
                            ["port"] = 443,
                            ["tls"] = true,
                        }
                    ),
                    ["places"] = new JsonArray("/etc/nginx/nginx.conf:1"),
                    ["certificateFile"] = null,
                    ["problem"] = null,
                    ["looks"] = new JsonArray(),
                }
        );
        var report = new JsonObject
        {
            ["agentVersion"] = "0.2",
            ["at"] = DateTimeOffset.UtcNow.ToString("O"),
            ["addresses"] = new JsonArray([.. addresses.Select(a => (JsonNode)a)]),
            ["services"] = new JsonArray([.. services]),
            ["entries"] = new JsonArray(),
            ["problem"] = null,
        };
        var answer = await CallAsync(agent, "POST", "agent/report", report.ToJsonString());
        Assert.True(answer.IsDone, answer.ToString());
    }

    /// <summary>Lines of the journal about something, as an administrator reads them.</summary>
    internal async Task<string> JournalAsync(string search)
    {
        var page = await CallAsync(Robin, "GET", "journal?search=" + Uri.EscapeDataString(search));
        Assert.True(page.IsDone, page.ToString());
        return page.Json!.ToJsonString();
    }

    /// <summary>Whether these bytes stand anywhere in the database as it lies on the disk.</summary>
    internal bool DiskHas(string secret)
    {
        SqliteConnection.ClearAllPools();
        return Directory
            .EnumerateFiles(Data, "*", SearchOption.AllDirectories)
            .Any(f => Encoding.Latin1.GetString(ReadShared(f)).Contains(secret));
    }

    private static byte[] ReadShared(string path)
    {
        using var file = new FileStream(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete);
        using var all = new MemoryStream();
        file.CopyTo(all);
        return all.ToArray();
    }
}

/// <summary>CSRs as openssl makes them from whatever configuration.</summary>
internal static class Csrs
{
    public static string Key(Scratch s)
    {
        var path = s[Guid.NewGuid().ToString("N") + ".key"];
        Programs.OpenSsl($"genpkey -algorithm EC -pkeyopt ec_paramgen_curve:P-256 -out {path}");
        return path;
    }

    /// <param name="names">As <c>DNS:a.example,IP:10.0.0.1</c>; none when empty.</param>
    public static string Make(Scratch s, string names, string subject = "/", string? key = null)
    {
        var config = s.File(
            Guid.NewGuid().ToString("N") + ".cnf",
            "[req]\ndistinguished_name=dn\nutf8=yes\nstring_mask=utf8only\n[dn]\n"
                + (names.Length == 0 ? "" : $"[ext]\nsubjectAltName={names}\n")
        );
        List<string> args = ["req", "-new", "-utf8", "-batch", "-config", config, "-key", key ?? Key(s), "-subj", subject];
        if (names.Length > 0)
            args.AddRange(["-reqexts", "ext"]);
        var (code, output, error) = Programs.Run("openssl", args);
        Assert.True(code == 0, error);
        return output;
    }
}
