using Microsoft.Extensions.Configuration;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Tests;

/// <summary>A service that was told something that nothing reads, or that makes no sense, says so and founds nothing.</summary>
public sealed class SettingsTests : IDisposable
{
    private readonly Scratch _scratch = new();

    public void Dispose() => _scratch.Dispose();

    [Theory]
    [InlineData("BEACON_DTAA", "/srv/beacon", "BEACON_DTAA is no setting of this service.", "Did you mean BEACON_DATA?")]
    [InlineData("BEACON_DATAFOLDER", "/srv/beacon", "is no setting", "Did you mean BEACON_DATA?")]
    [InlineData("BEACON_PUBLICATION_PORT", "80", "is no setting", "Did you mean BEACON_PUBLICATIONPORT?")]
    [InlineData("BEACON_ZONE", "thistledown.example=web", "is no setting", "Did you mean BEACON_ZONES?")]
    [InlineData("BEACON_DATA", "", "BEACON_DATA is \"\".", "Write the folder")]
    [InlineData("BEACON_PORT", "seven", "BEACON_PORT is \"seven\".", "Write a whole number.")]
    [InlineData("beacon_port", "70000", "beacon_port is \"70000\".", "Write a port from 1 to 65535.")]
    [InlineData("BEACON_PUBLICATIONPORT", "7443", "BEACON_PUBLICATIONPORT is \"7443\".", "another port than BEACON_PORT")]
    [InlineData("BEACON_LISTEN", "web01", "BEACON_LISTEN is \"web01\".", "one address of this machine")]
    [InlineData("BEACON_NAMES", " , ", "BEACON_NAMES is", "the names by which clients reach")]
    [InlineData("BEACON_NAMES", "beacon.thistledown.example,-", "BEACON_NAMES: ", "")]
    [InlineData("BEACON_PUBLICATIONURL", "pki.thistledown.example", "BEACON_PUBLICATIONURL is", "begins with http://")]
    [InlineData("BEACON_PUBLICATIONURL", "https://pki.thistledown.example", "BEACON_PUBLICATIONURL is", "begins with http://")]
    [InlineData("BEACON_DIRECTORY", "dc1.thistledown.example", "BEACON_DIRECTORY is", "Write ldaps://HOST, ldap://HOST")]
    [InlineData("BEACON_DIRECTORY", "https://dc1.thistledown.example", "BEACON_DIRECTORY is", "Write ldaps://HOST, ldap://HOST")]
    [InlineData("BEACON_DNS", "ns1.thistledown.example", "BEACON_DNS has \"ns1.thistledown.example\".", "Write addresses of DNS servers")]
    [InlineData("BEACON_DNS", "53", "BEACON_DNS has \"53\".", "Write addresses of DNS servers")]
    [InlineData("BEACON_DNS", ",", "BEACON_DNS has \",\".", "Write addresses of DNS servers")]
    [InlineData("BEACON_ROLES", "approver=cert-officers", "BEACON_ROLES has \"approver=cert-officers\".", "roles are ")]
    [InlineData("BEACON_ZONES", "thistledown.example", "BEACON_ZONES has", "Write zone=group")]
    [InlineData("BEACON_SWEEPS", "web01", "BEACON_SWEEPS: ", "")]
    [InlineData("BEACON_FOUNDING", "hole", "BEACON_FOUNDING is \"hole\".", "Write whole, or offline.")]
    [InlineData("BEACON_BOUNDS", "no", "BEACON_BOUNDS is \"no\".", "Write zones, or none.")]
    [InlineData("BEACON_AUTHORITYKEY", "rsa-512", "BEACON_AUTHORITYKEY: ", "")]
    [InlineData("BEACON_AUTHORITYSIGNATURE", "PSS", "BEACON_AUTHORITYSIGNATURE is", "Write pkcs1, or pss.")]
    [InlineData("BEACON_CRLHOURS", "0", "BEACON_CRLHOURS is \"0\".", "more than 0 hours")]
    [InlineData("BEACON_CRLHOURS", "NaN", "BEACON_CRLHOURS is \"NaN\".", "more than 0 hours")]
    [InlineData("BEACON_OCSPHOURS", "4,5", "BEACON_OCSPHOURS is \"4,5\".", "for example 1.5")]
    [InlineData("BEACON_SECONDPERSON", "yes", "BEACON_SECONDPERSON is \"yes\".", "Write true, or false.")]
    [InlineData("BEACON_SIGNINSPERMINUTE", "0", "BEACON_SIGNINSPERMINUTE is \"0\".", "Write 1 or more.")]
    public void A_wrong_variable_is_refused_by_its_name(string name, string value, string why, string cure)
    {
        var problem = Assert.Throws<BeaconProblem>(() => Read([], new() { [name] = value }));

        Assert.Contains(why, problem.Message);
        Assert.Contains(cure, problem.Cure);
    }

    [Theory]
    [InlineData("Ports", "7443", "Ports in the section Beacon of appsettings.json is no setting", "Did you mean Port?")]
    [InlineData("Colour", "green", "is no setting", "Take it out.")]
    [InlineData("CrlHours", "-1", "CrlHours in the section Beacon of appsettings.json is \"-1\".", "more than 0 hours")]
    public void A_wrong_setting_in_the_file_is_refused_by_its_place(string name, string value, string why, string cure)
    {
        var problem = Assert.Throws<BeaconProblem>(() => Read(new() { [name] = value }, []));

        Assert.Contains(why, problem.Message);
        Assert.Contains(cure, problem.Cure);
    }

    [Fact]
    public void Variables_win_over_the_file_and_those_of_others_are_not_read()
    {
        var options = Read(
            new() { ["Port"] = "8443", ["CrlHours"] = "1.5" },
            new()
            {
                ["BEACON_PORT"] = "9443",
                ["BEACON_HOME"] = "/home/robin",
                ["BEACON_PROGRAMS"] = "out",
                ["PORT"] = "3000",
                ["DATA"] = "/nowhere",
                ["Names"] = "other.thistledown.example",
            }
        );

        Assert.Equal((9443, 1.5, "localhost,127.0.0.1"), (options.Port, options.CrlHours, options.Names));
        Assert.Equal(Path.GetFullPath("data"), options.Data);
    }

    [Fact]
    public void What_a_setting_names_and_is_not_there_is_told_and_hinders_nothing()
    {
        var (there, missing) = (_scratch.File("there.pem", ""), _scratch["nowhere.keytab"]);
        var options = Read([], new() { ["BEACON_RECOVERYCERTIFICATES"] = $"{there}; {missing}", ["BEACON_KEYTAB"] = missing });

        Assert.Equal([("BEACON_KEYTAB", missing), ("BEACON_RECOVERYCERTIFICATES", missing)], Settings.Absent(options));
    }

    [Theory]
    [InlineData("--help", 0, "Without a command it serves until it is stopped.")]
    [InlineData("--prot 80", 1, "Unrecognized command or argument '--prot'.")]
    [InlineData("restore nowhere.sealed --key nowhere.pem", 2, "beacond: Could not find file")]
    public void Words_on_its_command_line_found_nothing(string words, int code, string says)
    {
        var (ended, output, error) = Start(words.Split(' '), []);

        Assert.True(ended == code, output + error);
        Assert.Contains(says, output + error);
        Assert.DoesNotContain("   at ", error);
        Assert.False(Directory.Exists(_scratch["data"]));
    }

    [Theory]
    [InlineData("BEACON_PORTS", "80", "beacond: BEACON_PORTS is no setting of this service. Did you mean BEACON_PORT?")]
    [InlineData("BEACON_DATA", "/proc/none", "Check that what the settings name is there")]
    public void The_program_says_what_is_wrong_and_founds_nothing(string name, string value, string says)
    {
        var (ended, output, error) = Start([], new() { [name] = value });

        Assert.True(ended == 2, output + error);
        Assert.Contains(says, error);
        Assert.DoesNotContain("   at ", error);
        Assert.False(Directory.Exists(_scratch["data"]));
    }

    [Fact]
    public void An_address_that_is_not_this_machines_is_said_to_be_so()
    {
        var (ended, output, error) = Start([], new() { ["BEACON_LISTEN"] = "192.0.2.1" });

        Assert.True(ended == 2, output + error);
        Assert.Contains("beacond: The service cannot listen: Cannot assign requested address. Give an address of this machine", error);
        Assert.DoesNotContain("   at ", error);
    }

    private (int Code, string Output, string Error) Start(string[] words, Dictionary<string, string> more)
    {
        var environment = new Dictionary<string, string>
        {
            ["BEACON_DATA"] = _scratch["data"],
            ["BEACON_PORT"] = Ports.Free().ToString(),
            ["BEACON_PUBLICATIONPORT"] = Ports.Free().ToString(),
        };
        foreach (var (name, value) in more)
            environment[name] = value;
        return Programs.Run(Own.Service, words, [], environment);
    }

    private static BeaconOptions Read(Dictionary<string, string?> file, Dictionary<string, string> environment) =>
        Settings.Read(
            new ConfigurationBuilder().AddInMemoryCollection(file.ToDictionary(s => $"Beacon:{s.Key}", s => s.Value)).Build(),
            environment
        );
}
