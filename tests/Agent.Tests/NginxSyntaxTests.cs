using System.Diagnostics;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.Nginx;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Core;
using OrderlyBeacon.Probes;

namespace OrderlyBeacon.Agent.Tests;

public sealed class NginxSyntaxTests
{
    private const string Sample = """
        # main
        user  www-data;   events { worker_connections 64; }
        http {
          log_format x '$remote_addr "$request" ; {not a block}';
          map $uri ${a}b { default "0;"; ~^/x\{2\} 1; }
          include sites/*.conf;
          server { listen 80; server_name a.example www.a.example; location ~ \.php$ { return 200 "}"; } }
          init_by_lua_block { local x = { a = "}" .. "{" } }
          server {
            listen 127.0.0.1:8443 ssl http2; # tls
            server_name b.example;
            ssl_certificate /etc/b.pem; ssl_certificate_key "/etc/b key.pem";
          }
        }
        """;

    /// <summary>A disk that counts how often it is asked for a file.</summary>
    private sealed class Counted(IReadOnlyDictionary<string, string> texts) : IFiles
    {
        public int Reads { get; private set; }

        public string? Find(string path)
        {
            Reads++;
            return texts.GetValueOrDefault(path);
        }

        public IReadOnlyList<string> FilesIn(string folder) => [.. texts.Keys.Where(p => Path.GetDirectoryName(p) == folder)];

        public IReadOnlyList<string> FoldersIn(string folder) => [];
    }

    [Fact]
    public void Files_are_read_a_few_times_however_many_sites_there_are()
    {
        var texts = Enumerable
            .Range(0, 500)
            .ToDictionary(i => $"/etc/sites/{i}.conf", i => $"server {{ listen 443 ssl; server_name s{i}.thistledown.example; }}\n");
        texts["/etc/nginx.conf"] = "events {} http { include sites/*.conf; }\n";
        var disk = new Counted(texts);
        Assert.Equal(500, NginxSites.Find(NginxConfiguration.Load("/etc/nginx.conf", disk)).Count);
        Assert.InRange(disk.Reads, texts.Count, texts.Count * 3);
    }

    private static NginxConfiguration Load(params (string Path, string Text)[] files)
    {
        var s = new Scratch();
        foreach (var (path, text) in files)
        {
            Directory.CreateDirectory(Path.GetDirectoryName(s[path])!);
            s.File(path, text);
        }
        return NginxConfiguration.Load(s["nginx.conf"], new HostFiles());
    }

    /// <summary>One mutated file, whatever is asked for.</summary>
    private sealed class OneText(string text) : IFiles
    {
        public string? Find(string path) => text;

        public IReadOnlyList<string> FilesIn(string folder) => [];

        public IReadOnlyList<string> FoldersIn(string folder) => [];
    }

    /// <summary>Takes a binding out again, from the memory of what it changed.</summary>
    private static ChangeSet Back(ChangeSet plan, UsedFiles used)
    {
        var files = new HostFiles();
        return Bindings.Remove(Bindings.After(plan.Service, "c", null, null, plan.Edits, files), used, files);
    }

    [Fact]
    public void Directives_have_their_places()
    {
        var f = NginxSyntax.Read("x", Sample);
        Assert.Equal(["user", "events", "http"], f.Directives.Select(d => d.Name));
        foreach (var d in f.Directives)
            Assert.StartsWith(d.Name, f.Text[d.Start..d.End]);
        var servers = f.Directives[2].Named("server").ToList();
        Assert.Equal(["a.example", "www.a.example"], servers[0].Named("server_name").Single().Args);
        Assert.Equal("/etc/b key.pem", servers[1].Named("ssl_certificate_key").Single().Args[0]);
        Assert.Equal("$remote_addr \"$request\" ; {not a block}", f.Directives[2].Named("log_format").Single().Args[1]);
        Assert.Equal(10, servers[1].Named("listen").Single().Line);
    }

    [Theory]
    [InlineData("http {", "not closed")]
    [InlineData("a b", "semicolon")]
    [InlineData("}", "closing brace")]
    [InlineData("a \"b", "quote")]
    [InlineData("http { server { listen 80 } }", "semicolon")]
    [InlineData(";", "unexpected")]
    public void What_is_broken_is_told_with_its_place(string text, string word)
    {
        var p = Assert.Throws<BeaconProblem>(() => NginxSyntax.Read("/etc/nginx/x.conf", text));
        Assert.Contains(word, p.Message);
        Assert.Contains("/etc/nginx/x.conf, line ", p.Message);
    }

    [Fact]
    public void Sites_are_found_across_includes()
    {
        var c = Load(
            ("nginx.conf", Sample),
            ("sites/1.conf", "server { listen [::]:443 ssl; server_name c.example ~^re$ _ $host .d.example; ssl_certificate c.pem; }"),
            ("sites/.hidden.conf", "broken {")
        );
        var sites = NginxSites.Find(c);
        Assert.Equal(["c.example", "a.example", "b.example"], sites.Select(s => s.Name));
        Assert.Equal(["c.example", "d.example"], sites[0].Names);
        Assert.Equal(("::1", 443, true), (sites[0].Endpoints[0].Address, sites[0].Endpoints[0].Port, sites[0].Endpoints[0].Tls));
        Assert.Equal("/etc/b.pem", sites[2].CertificateFile);
        Assert.Equal(("127.0.0.1", 80, false), (sites[1].Endpoints[0].Address, sites[1].Endpoints[0].Port, sites[1].Endpoints[0].Tls));
    }

    [Fact]
    public void A_flat_copy_keeps_every_directive_and_knows_where_lines_came_from()
    {
        var c = Load(("nginx.conf", Sample), ("sites/1.conf", "\n\nserver { listen 81; server_name c.example; }"));
        var (text, origins) = c.Flatten();
        var line = Array.FindIndex(text.Split('\n'), l => l.Contains("listen 81", StringComparison.Ordinal));
        Assert.EndsWith("sites/1.conf", origins[line].File);
        Assert.Equal(3, origins[line].Line);
        Assert.DoesNotContain("include", text);
        NginxSyntax.Read("flat", text);
    }

    [Fact]
    public void Files_that_include_each_other_are_said()
    {
        var p = Assert.Throws<BeaconProblem>(() =>
            Load(("nginx.conf", "http { include a.conf; }"), ("a.conf", "include b.conf;"), ("b.conf", "include a.conf;"))
        );
        Assert.Contains("a.conf includes itself", p.Message);
        // Included ten times at each of seven levels: ten million files, said before they are read.
        var ten = (int n) => string.Concat(Enumerable.Repeat($"include {n}.conf;", 10));
        var levels = Enumerable.Range(1, 7).Select(n => ($"{n}.conf", ten(n + 1))).Append(("8.conf", "# end\n"));
        Assert.Equal(
            ProblemCode.TooLarge,
            Assert.Throws<BeaconProblem>(() => Load([("nginx.conf", "http { " + ten(1) + " }"), .. levels])).Code
        );
    }

    [Fact]
    public void A_plain_site_gets_a_listener_and_nothing_else_changes()
    {
        var c = Load(
            ("nginx.conf", "http { include sites/*; }"),
            ("sites/a.conf", "server {\n    listen 127.0.0.1:80; # here\n    server_name a.example;\n    root /x;\n}\n")
        );
        var plan = NginxPlan.Bind(c, new("a.example", new UsedFiles("/store/in-use/a/chain.pem", "/store/in-use/a/key.pem"), null, []));
        Assert.Equal(
            "server {\n    listen 127.0.0.1:80; # here\n    listen 127.0.0.1:443 ssl;\n    ssl_certificate /store/in-use/a/chain.pem;\n    ssl_certificate_key /store/in-use/a/key.pem;\n    server_name a.example;\n    root /x;\n}\n",
            Assert.Single(plan.Edits).After
        );
        Assert.Equal([new Probe("127.0.0.1", 443, "a.example")], plan.Targets);
        Assert.Contains("+    listen 127.0.0.1:443 ssl;", TextDiff.Of(plan.Edits[0].Before!, plan.Edits[0].After!));
        // And back again, to the letter.
        File.WriteAllText(plan.Edits[0].Path, plan.Edits[0].After);
        var back = Back(plan, new UsedFiles("/store/in-use/a/chain.pem", "/store/in-use/a/key.pem"));
        Assert.Equal(plan.Edits[0].Before, Assert.Single(back.Edits).After);
    }

    [Fact]
    public void A_tls_site_gets_its_files_replaced_and_back()
    {
        var text =
            "http {\n server {\n  listen 443 ssl; listen 80;\n  server_name a.example;\n  ssl_certificate 'old.pem'; ssl_certificate_key old.key;\n }\n}\n";
        var c = Load(("nginx.conf", text));
        var plan = NginxPlan.Bind(c, new("a.example", new UsedFiles("/s/chain.pem", "/s/key.pem"), null, []));
        Assert.Contains("ssl_certificate /s/chain.pem; ssl_certificate_key /s/key.pem;", Assert.Single(plan.Edits).After);
        File.WriteAllText(plan.Edits[0].Path, plan.Edits[0].After);
        var again = NginxPlan.Bind(
            NginxConfiguration.Load(c.Main, new HostFiles()),
            new("a.example", new UsedFiles("/s/chain.pem", "/s/key.pem"), null, [])
        );
        Assert.Empty(again.Edits);
        var back = Back(plan, new UsedFiles("/s/chain.pem", "/s/key.pem"));
        Assert.Equal(text, Assert.Single(back.Edits).After);
    }

    [Theory]
    [InlineData("listen 443 ssl; server_name a.example; ssl_certificate a; ssl_certificate b; ssl_certificate_key c;", "certificates")]
    [InlineData("listen 80; server_name a.example; return 301 https://$host$request_uri;", "sends its clients on")]
    public void Unclear_forms_are_left_alone(string server, string word)
    {
        var p = Assert.Throws<BeaconProblem>(() =>
            NginxPlan.Bind(
                Load(("nginx.conf", "http { server { " + server + " } }")),
                new("a.example", new UsedFiles("/x", "/y"), null, [])
            )
        );
        Assert.Equal(ProblemCode.ConfigurationUnsupported, p.Code);
        Assert.Contains(word, p.Message);
    }

    [Fact]
    public void A_snippet_that_two_sites_share_is_left_and_said()
    {
        var c = Load(
            (
                "nginx.conf",
                "http { server { listen 443 ssl; server_name a.example; include tls.conf; } server { listen 443 ssl; server_name b.example; include tls.conf; } }"
            ),
            ("tls.conf", "ssl_certificate both.pem;\nssl_certificate_key both.key;\n")
        );
        var p = Assert.Throws<BeaconProblem>(() => NginxPlan.Bind(c, new("a.example", new UsedFiles("/x", "/y"), null, [])));
        Assert.Equal(ProblemCode.ConfigurationUnsupported, p.Code);
        Assert.Contains("tls.conf:1 is shared: b.example", p.Message);
    }

    [Fact]
    public void A_snippet_of_one_site_alone_is_changed()
    {
        var c = Load(
            ("nginx.conf", "http { server { listen 443 ssl; server_name a.example; include tls.conf; } }"),
            ("tls.conf", "ssl_certificate both.pem;\nssl_certificate_key both.key;\n")
        );
        var plan = NginxPlan.Bind(c, new("a.example", new UsedFiles("/x", "/y"), null, []));
        Assert.Equal("ssl_certificate /x;\nssl_certificate_key /y;\n", Assert.Single(plan.Edits).After);
    }

    [Fact]
    public void A_path_with_a_variable_is_left_and_said()
    {
        var c = Load(
            (
                "nginx.conf",
                "http { server { listen 443 ssl; server_name a.example b.example; ssl_certificate /c/$ssl_server_name.pem; ssl_certificate_key /c/$ssl_server_name.key; } }"
            )
        );
        var p = Assert.Throws<BeaconProblem>(() => NginxPlan.Bind(c, new("a.example", new UsedFiles("/x", "/y"), null, [])));
        Assert.Contains("depends on a variable", p.Message);
    }

    [Fact]
    public void A_file_whose_lines_end_in_CRLF_keeps_them_there_and_back()
    {
        var text = "http {\r\n  server {\r\n    listen 127.0.0.1:80; # here\r\n    server_name a.example;\r\n  }\r\n}\r\n";
        var c = Load(("nginx.conf", text));
        var files = new UsedFiles("/x", "/y");
        var plan = NginxPlan.Bind(c, new("a.example", files, null, []));
        var after = Assert.Single(plan.Edits).After!;
        Assert.DoesNotContain("\n", after.Replace("\r\n", ""));
        Assert.Contains("# here\r\n    listen 127.0.0.1:443 ssl;\r\n    ssl_certificate /x;\r\n", after);
        File.WriteAllText(plan.Edits[0].Path, after);
        var back = Back(plan, files);
        Assert.Equal(text, Assert.Single(back.Edits).After);
    }

    [Fact]
    public void Edits_of_two_sites_in_one_file_are_joined()
    {
        var text = "a\nb\nc\nd\n";
        Assert.Equal("a\nA\nb\nc\nD\n", TextDiff.Merge(text, "a\nA\nb\nc\nd\n", "a\nb\nc\nD\n"));
        Assert.Throws<BeaconProblem>(() => TextDiff.Merge(text, "a\nX\nc\nd\n", "a\nY\nc\nd\n"));
    }

    /// <summary>Bounded fuzzing: mutated configurations are read, or refused with a problem of ours; reading changes nothing.</summary>
    [Fact]
    public void Mutated_configurations_never_get_past_as_anything_but_a_problem()
    {
        var seed = Environment.GetEnvironmentVariable("BEACON_FUZZ_SEED") is { } s ? int.Parse(s) : Environment.TickCount;
        var random = new Random(seed);
        var clock = Stopwatch.StartNew();
        var runs = 0;
        const string alphabet = "{};#\"'\\$ \nabc127.0.0.1:443listensslserver_name";
        while (clock.Elapsed < TimeSpan.FromSeconds(8))
        {
            var text = Sample.ToList();
            for (var n = random.Next(1, 8); n > 0; n--)
                switch (random.Next(3))
                {
                    case 0:
                        text[random.Next(text.Count)] = alphabet[random.Next(alphabet.Length)];
                        break;
                    case 1:
                        text.RemoveAt(random.Next(text.Count));
                        break;
                    default:
                        text.Insert(random.Next(text.Count), alphabet[random.Next(alphabet.Length)]);
                        break;
                }
            var mutated = new string([.. text]);
            try
            {
                var c = NginxConfiguration.Load("/nowhere/nginx.conf", new OneText(mutated));
                foreach (var site in NginxSites.Find(c))
                    try
                    {
                        foreach (
                            var e in NginxPlan.Bind(c, new(site.Name, new UsedFiles("/store/chain.pem", "/store/key.pem"), null, [])).Edits
                        )
                            NginxSyntax.Read("after", e.After!);
                    }
                    catch (BeaconProblem p) when (p.Code is ProblemCode.ConfigurationUnsupported) { }
            }
            catch (BeaconProblem) { }
            catch (Exception e)
            {
                Assert.Fail($"seed {seed}: {e}\n{mutated}");
            }
            runs++;
        }
        Assert.True(runs > 1000, $"only {runs} runs");
    }
}
