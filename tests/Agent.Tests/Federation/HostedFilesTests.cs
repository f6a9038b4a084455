using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Connectors.SimpleSamlPhp;
using OrderlyBeacon.Agent.Federation;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Tests.Federation;

/// <summary>Files as people write them: what is understood is changed and comes back to the byte, what is not is refused with its cure.</summary>
public sealed class HostedFilesTests : IDisposable
{
    private const string Entity = "https://login.thistledown.example/provider";
    private readonly Scratch _s = new();
    private readonly string _next = new('b', 64);

    public HostedFilesTests()
    {
        Programs.OpenSsl(
            $"req -x509 -newkey rsa:2048 -nodes -keyout {_s["signing.key"]} -out {_s["signing.crt"]} -days 9 -subj /CN=signing"
        );
        File.Copy(_s["signing.crt"], _s["certificates.pem"]);
    }

    public void Dispose() => _s.Dispose();

    private SimpleSamlPhpConnector Server(string hosted, string? config = null)
    {
        File.WriteAllText(
            _s["config.php"],
            config
                ?? $"<?php $config = ['metadatadir' => '{_s.Path}', 'certdir' => '{_s.Path}', 'baseurlpath' => 'https://login.thistledown.example/saml/'];"
        );
        File.WriteAllText(_s["saml20-idp-hosted.php"], hosted);
        return new(new("simplesamlphp", "simplesamlphp", _s.Path), new("simplesamlphp", "/usr/bin/php", _s.Path, null));
    }

    private FederationChange Change(FederationAct act) =>
        new(Entity, act, new("/store/it's/certificates.pem", "/store/it's/key.pem"), _next);

    private string Hosted(string rest) => $"<?php\n$metadata['{Entity}'] = [{rest}];\n";

    private const string Pair = "'privatekey' => 'signing.key', 'certificate' => 'signing.crt'";

    public static TheoryData<string> Understood =>
        [
            "<?php\n$metadata['ENTITY'] = ['host' => '__DEFAULT__', 'privatekey' => 'signing.key', 'certificate' => 'signing.crt'];",
            "<?php\r\n// ours\r\n$metadata['ENTITY'] = array(\r\n\t'privatekey' => 'signing.key',\r\n\t'certificate' => 'signing.crt',\r\n\t'auth' => 'people',\r\n);\r\n",
            "<?php\n/* [ ( ' */\n$metadata[\"ENTITY\"] = [\n  \"certificate\" => \"signing.crt\", # the old one\n  \"privatekey\" => \"signing.key\"\n];\n?>\n",
            "<?php\n\ndeclare(strict_types=1);\n$metadata['ENTITY'] = [\n    'authproc' => [3 => ['class' => 'saml:X', '%' => [1 + 2, strlen(',]')]], 9 => PHP_VERSION],\n    'scope' => ['thistledown.example'],\n    'privatekey' => 'signing.key',\n    'certificate' => 'signing.crt',\n];\n$metadata['https://other.example/provider'] = ['privatekey' => 'signing.key', 'certificate' => 'signing.crt'];\n",
        ];

    [Theory]
    [MemberData(nameof(Understood))]
    public void What_is_understood_is_changed_and_comes_back_to_the_byte(string hosted)
    {
        var server = Server(hosted.Replace("ENTITY", Entity));
        var before = server.Files.Read(_s["saml20-idp-hosted.php"]);
        Assert.Null(server.Providers(server.Files)[0].Problem);
        var edit = Assert.Single(server.PlanStep(Change(FederationAct.Publish), server.Files).Edits);
        Assert.Contains("'new_certificate' => '/store/it\\'s/certificates.pem'", edit.After);
        // Lines end as the others do.
        Assert.Equal(before.Contains('\r'), !edit.After!.Replace("\r\n", "").Contains('\n'));
        var (code, output, _) = Lint(edit.After);
        Assert.True(code == 0, output);
        // As PHP reads it.
        var said = Php(edit.After, $"echo $metadata['{Entity}']['new_privatekey'], '|', $metadata['{Entity}']['certificate'];");
        Assert.Equal("/store/it's/key.pem|signing.crt", said);
        // Taken out again where the file says it is the next one: here the same certificate stands for it.
        var read = PhpArrays.Read("x", edit.After);
        var array = read.Assignments.First(a => a.Index == Entity).Value;
        var taken = new HostedProvider("x", edit.After, Entity, array, 1).Plan(Change(FederationAct.Withdraw), signs: false, also: true);
        Assert.Equal(before, Assert.Single(TextEdits.Apply(taken.Edits, _ => edit.After)).After);
        var swapped = new HostedProvider("x", edit.After, Entity, array, 1).Plan(Change(FederationAct.Sign), signs: false, also: true);
        var after = Assert.Single(TextEdits.Apply(swapped.Edits, _ => edit.After)).After!;
        Assert.Equal(
            "/store/it's/certificates.pem|signing.key",
            Php(after, $"echo $metadata['{Entity}']['certificate'], '|', $metadata['{Entity}']['new_privatekey'];")
        );
    }

    private (int Code, string Output, string Error) Lint(string text)
    {
        File.WriteAllBytes(_s["lint.php"], ByteText.Bytes(text));
        return Programs.Run("php", ["-n", "-l", _s["lint.php"]]);
    }

    private string Php(string text, string then)
    {
        var code = text.TrimEnd();
        File.WriteAllBytes(
            _s["run.php"],
            ByteText.Bytes((code.EndsWith("?>", StringComparison.Ordinal) ? code[..^2] : code) + "\n" + then)
        );
        return Programs.Run("php", ["-n", _s["run.php"]]).Output.Trim();
    }

    [Theory]
    [InlineData("'privatekey' => $dir . '/signing.key', 'certificate' => 'signing.crt'", "worked out by PHP")]
    [InlineData("'privatekey' => \"$dir/signing.key\", 'certificate' => 'signing.crt'", "worked out by PHP")]
    [InlineData("'auth' => 'people'", "does not name its privatekey")]
    [InlineData(Pair + ", 'privatekey_pass' => 'x'", "passphrase")]
    [InlineData(Pair + ", 'new_certificate' => 'signing.crt'", "not both")]
    [InlineData(Pair + ", 'certificate' => 'other.crt'", "twice")]
    [InlineData(Pair + ", ...$more", "from elsewhere")]
    public void What_is_not_understood_is_refused_by_name(string rest, string said)
    {
        var server = Server(Hosted(rest));
        var found = Assert.Single(server.Providers(server.Files));
        Assert.Contains(said, found.Problem!.Message);
        Assert.NotEmpty(found.Problem.Cure);
        var p = Assert.Throws<BeaconProblem>(() => server.PlanStep(Change(FederationAct.Publish), server.Files));
        Assert.Contains(said, p.Message);
    }

    [Theory]
    [InlineData("<?php\nif (PHP_SAPI === 'cli') { $metadata['x'] = []; }\n", "decided when PHP runs")]
    [InlineData("<?php\nrequire 'more.php';\n", "decided when PHP runs")]
    [InlineData("<?php\n$metadata['x'] = ['a' => 'b'\n", "not closed")]
    [InlineData("<?php\n$metadata['x'] = ['a' => 'b];\n", "not closed")]
    [InlineData("<?php\n$metadata['x'] = <<<T\nT;\n", "several lines")]
    [InlineData("no php at all", "<?php")]
    public void A_file_that_is_more_or_less_than_arrays_is_said_with_its_line(string hosted, string said)
    {
        var server = Server(hosted);
        Assert.Contains(said, Assert.Single(server.Providers(server.Files)).Problem!.Message);
    }

    [Fact]
    public void Mutated_files_are_read_or_refused()
    {
        var random = new Random(20_261_128);
        const string alphabet = "'\"[](),=>$;\\/*#\n\r ax0\0";
        foreach (var form in Understood)
        {
            var text = form.Data.Replace("ENTITY", Entity);
            for (var i = 0; i < 5_000; i++)
            {
                var mutated = text.ToCharArray().ToList();
                for (var n = random.Next(1, 5); n > 0 && mutated.Count > 1; n--)
                    switch (random.Next(3))
                    {
                        case 0:
                            mutated.RemoveAt(random.Next(mutated.Count));
                            break;
                        case 1:
                            mutated.Insert(random.Next(mutated.Count), alphabet[random.Next(alphabet.Length)]);
                            break;
                        default:
                            mutated[random.Next(mutated.Count)] = alphabet[random.Next(alphabet.Length)];
                            break;
                    }
                try
                {
                    foreach (var a in PhpArrays.Read("x", new([.. mutated])).Assignments)
                        Assert.InRange(a.Value.End, a.Value.Start, mutated.Count);
                }
                catch (BeaconProblem p)
                {
                    Assert.NotEmpty(p.Cure);
                }
            }
        }
        Assert.Throws<BeaconProblem>(() => PhpArrays.Read("x", "<?php $a = " + new string('[', 100_000)));
    }

    [Theory]
    [InlineData(
        "192.0.2.7 - - [28/Nov/2026:06:36:18 +0100] \"GET /saml/metadata.php?x=1 HTTP/1.1\" 200 3718 \"-\" \"curl\"",
        "192.0.2.7 05:36:18"
    )]
    [InlineData("2001:db8::7 - wren [28/Nov/2026:06:36:18 +0000] \"GET /saml/metadata.php HTTP/2.0\" 200 3718", "2001:db8::7 06:36:18")]
    [InlineData("192.0.2.7 - - [28/Nov/2026:06:36:18 +0000] \"GET /saml/metadata.php HTTP/1.1\" 304 0 \"-\" \"curl\"", null)]
    [InlineData("192.0.2.7 - - [28/Nov/2026:06:36:18 +0000] \"GET /other.php HTTP/1.1\" 200 3 \"-\" \"curl\"", null)]
    [InlineData(
        "192.0.2.7 - - [28/Nov/2026:06:36:18 +0000] \"GET /saml/metadata.php HTTP/1.1\" 200 3 \"-\" \"orderly-beacon-agent\"",
        null
    )]
    [InlineData("192.0.2.7 - - [never] \"GET /saml/metadata.php HTTP/1.1\" 200 3", null)]
    [InlineData("somebody - - [28/Nov/2026:06:36:18 +0000] \"GET /saml/metadata.php HTTP/1.1\" 200 3", null)]
    [InlineData(
        "::FFFF:192.0.2.7 - - [28/Nov/2026:06:36:18 +0000] \"GET /saml/metadata.php HTTP/1.1\" 200 3718 \"-\" \"-\"",
        "192.0.2.7 06:36:18"
    )]
    [InlineData("]][[\"\"", null)]
    [InlineData("", null)]
    public void Lines_of_a_log_are_read_as_servers_write_them(string line, string? fetch)
    {
        var found = FetchBook.FetchOf(line, "/saml/metadata.php");
        Assert.Equal(fetch, found is null ? null : $"{found.Address} {found.At:HH:mm:ss}");
    }

    [Theory]
    [InlineData("<a/>")]
    [InlineData("<!DOCTYPE a [<!ENTITY x SYSTEM 'file:///etc/passwd'>]><a>&x;</a>")]
    [InlineData("not xml")]
    public void What_is_no_metadata_is_not_read(string xml) => Assert.Throws<System.Xml.XmlException>(() => MetadataFile.Read(xml));
}
