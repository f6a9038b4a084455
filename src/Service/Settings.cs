using System.Collections;
using System.Globalization;
using System.Net;
using System.Reflection;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Service.Domain;

namespace OrderlyBeacon.Service;

/// <summary>
/// Reads the settings from the two places where they may stand: section <c>Beacon</c> of appsettings.json and variables <c>BEACON_NAME</c>, which win. What nothing would
/// read and what makes no sense is refused before anything is founded: with a misspelled folder a service would found an authority of its own elsewhere.
/// </summary>
internal static class Settings
{
    private const string Section = "Beacon",
        Prefix = "BEACON_";

    /// <summary>The client's own folder; scripts set it for both.</summary>
    private const string OfTheClient = "HOME";

    /// <summary>A year: what lives longer is no list, and no answer.</summary>
    private const double MostHours = 366 * 24;

    private static readonly IReadOnlyDictionary<string, PropertyInfo> Known = typeof(BeaconOptions)
        .GetProperties()
        .Where(p => p.CanWrite)
        .ToDictionary(p => p.Name, StringComparer.OrdinalIgnoreCase);

    private static readonly Rule[] Rules =
    [
        new(nameof(BeaconOptions.Data), o => o.Data.Length > 0, "the folder of everything the service keeps"),
        new(nameof(BeaconOptions.Port), o => IsPort(o.Port), "a port from 1 to 65535"),
        new(nameof(BeaconOptions.PublicationPort), o => IsPort(o.PublicationPort), "a port from 1 to 65535"),
        new(
            nameof(BeaconOptions.PublicationPort),
            o => o.PublicationPort != o.Port,
            "another port than BEACON_PORT: one has TLS, the other has none"
        ),
        new(
            nameof(BeaconOptions.Listen),
            o => IPAddress.TryParse(o.Listen, out _),
            "one address of this machine, for example 0.0.0.0 for all"
        ),
        new(nameof(BeaconOptions.Names), o => o.NameList.Count > 0, "the names by which clients reach this service, separated by commas"),
        new(
            nameof(BeaconOptions.PublicationUrl),
            o => o.PublicationUrl.Length == 0 || IsWebAddress(o.PublicationUrl),
            "an address that begins with http://, or nothing: whoever checks a certificate cannot check another one for it"
        ),
        new(
            nameof(BeaconOptions.Directory),
            o => o.Directory.Length == 0 || IsLdap(o) || Path.IsPathRooted(o.Directory) || File.Exists(o.Directory),
            "ldaps://HOST, ldap://HOST (with Kerberos), or the whole path of a YAML file"
        ),
        new(nameof(BeaconOptions.AuthoritySignature), o => o.AuthoritySignature is "pkcs1" or "pss", "pkcs1, or pss"),
        new(nameof(BeaconOptions.Founding), o => o.Founding is "whole" or "offline", "whole, or offline"),
        new(nameof(BeaconOptions.Bounds), o => o.Bounds is "zones" or "none", "zones, or none"),
        new(nameof(BeaconOptions.CrlHours), o => IsLife(o.CrlHours), "more than 0 hours, and no more than a year"),
        new(nameof(BeaconOptions.DeltaHours), o => IsLife(o.DeltaHours), "more than 0 hours, and no more than a year"),
        new(nameof(BeaconOptions.OcspHours), o => IsLife(o.OcspHours), "more than 0 hours, and no more than a year"),
        new(nameof(BeaconOptions.HealthMinutes), o => o.HealthMinutes is > 0 and <= 60 * MostHours, "more than 0 minutes"),
        new(nameof(BeaconOptions.DirectoryMinutes), o => o.DirectoryMinutes is >= 0 and <= 24 * 60, "0 to 1440 minutes"),
        new(nameof(BeaconOptions.FreshMinutes), o => o.FreshMinutes is >= 0 and <= 24 * 60, "0 to 1440 minutes"),
        new(nameof(BeaconOptions.HostAwaySeconds), o => o.HostAwaySeconds > 0, "1 second or more"),
        new(nameof(BeaconOptions.SoonDays), o => o.SoonDays is >= 0 and <= 3660, "0 to 3660 days"),
        new(nameof(BeaconOptions.SignInsPerMinute), o => o.SignInsPerMinute > 0, "1 or more"),
        new(nameof(BeaconOptions.ConnectionsPerSource), o => o.ConnectionsPerSource > 0, "1 or more"),
    ];

    /// <summary>What cannot be read as what it is meant to be says why by itself.</summary>
    private static readonly (string Setting, Action<BeaconOptions> Read)[] Readers =
    [
        (nameof(BeaconOptions.Names), o => _ = o.OwnNames),
        (nameof(BeaconOptions.Zones), o => _ = o.Holdings),
        (nameof(BeaconOptions.Sweeps), o => _ = o.SweepNetworks),
        (nameof(BeaconOptions.Directory), ReadDirectory),
        (nameof(BeaconOptions.Roles), o => _ = DomainGroups.Read(o.Roles)),
        (nameof(BeaconOptions.Dns), o => _ = Resolver.Servers(o.Dns)),
        (nameof(BeaconOptions.AuthorityKey), o => _ = KeySpec.Parse(o.AuthorityKey)),
    ];

    /// <summary>Settings that name files and folders which are read when they are needed.</summary>
    private static readonly (string Setting, Func<BeaconOptions, IEnumerable<string>> Paths)[] Named =
    [
        (nameof(BeaconOptions.Directory), o => IsLdap(o) ? [] : [o.Directory]),
        (nameof(BeaconOptions.DirectoryPasswordFile), o => [o.DirectoryPasswordFile]),
        (nameof(BeaconOptions.DirectoryTrust), o => [o.DirectoryTrust]),
        (nameof(BeaconOptions.Keytab), o => [o.Keytab]),
        (nameof(BeaconOptions.TokenPinFile), o => [o.TokenPinFile]),
        (nameof(BeaconOptions.RecoveryCertificates), o => o.RecoveryCertificates.Split(';', StringSplitOptions.TrimEntries)),
    ];

    /// <param name="Wants">What to write instead.</param>
    private sealed record Rule(string Setting, Predicate<BeaconOptions> Holds, string Wants);

    /// <param name="Place">Where it stands, in words.</param>
    private sealed record Given(string Name, string Value, string Place);

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>: a setting that nothing reads, or a value that makes no sense.</exception>
    public static BeaconOptions Read(IConfiguration configuration) => Read(configuration, OfThisProcess());

    /// <param name="environment">Variables; those that do not begin with <c>BEACON_</c> are nobody's.</param>
    /// <inheritdoc cref="Read(IConfiguration)"/>
    internal static BeaconOptions Read(IConfiguration configuration, IReadOnlyDictionary<string, string> environment)
    {
        var options = new BeaconOptions();
        var places = new Dictionary<string, string>();
        foreach (var given in InFile(configuration).Concat(InEnvironment(environment)))
        {
            if (!Known.TryGetValue(given.Name, out var setting))
                continue;
            setting.SetValue(options, Value(given, setting.PropertyType));
            places[setting.Name] = given.Place;
        }
        foreach (var rule in Rules.Where(r => !r.Holds(options)))
            throw Refused(PlaceOf(rule.Setting), Known[rule.Setting].GetValue(options), $"Write {rule.Wants}.");
        foreach (var (setting, read) in Readers)
            ReadOrSay(options, PlaceOf(setting), read);
        options.Data = Path.GetFullPath(options.Data);
        return options;

        string PlaceOf(string setting) => places.GetValueOrDefault(setting) ?? Prefix + setting.ToUpperInvariant();
    }

    /// <summary>Variables of our prefix that nothing reads, and that are like none that is read.</summary>
    public static IReadOnlyList<string> Unread() =>
        [.. Variables(OfThisProcess()).Where(g => !Known.ContainsKey(g.Name) && g.Name != OfTheClient).Select(g => g.Place)];

    /// <summary>Settings that name what is not there. No reason not to start: lists must go on being published meanwhile.</summary>
    public static IReadOnlyList<(string Setting, string Path)> Absent(BeaconOptions options) =>
        [
            .. Named
                .SelectMany(n => n.Paths(options), (n, path) => (Setting: Prefix + n.Setting.ToUpperInvariant(), Path: path))
                .Where(n => n.Path.Length > 0 && !Path.Exists(n.Path)),
        ];

    private static IEnumerable<Given> InFile(IConfiguration configuration)
    {
        foreach (var s in configuration.GetSection(Section).GetChildren())
        {
            var given = new Given(s.Key, s.Value ?? "", $"{s.Key} in the section {Section} of appsettings.json");
            if (!Known.ContainsKey(s.Key))
                throw Unknown(given.Place, Alike(s.Key) is { } name ? $"Did you mean {name}?" : "Take it out.");
            yield return given;
        }
    }

    private static IEnumerable<Given> InEnvironment(IReadOnlyDictionary<string, string> environment)
    {
        foreach (var given in Variables(environment))
        {
            if (!Known.ContainsKey(given.Name) && given.Name != OfTheClient && Alike(given.Name) is { } name)
                throw Unknown(
                    given.Place,
                    $"Did you mean {Prefix}{name.ToUpperInvariant()}? If not, take it out of what the service is started with."
                );
            yield return given;
        }
    }

    private static IEnumerable<Given> Variables(IReadOnlyDictionary<string, string> environment) =>
        environment
            .Where(e => e.Key.StartsWith(Prefix, StringComparison.OrdinalIgnoreCase))
            .OrderBy(e => e.Key, StringComparer.Ordinal)
            .Select(e => new Given(e.Key[Prefix.Length..], e.Value, e.Key));

    private static Dictionary<string, string> OfThisProcess() =>
        Environment.GetEnvironmentVariables().Cast<DictionaryEntry>().ToDictionary(e => (string)e.Key, e => (string?)e.Value ?? "");

    private static object Value(Given given, Type type)
    {
        if (type == typeof(string))
            return given.Value;
        if (type == typeof(bool))
            return bool.TryParse(given.Value, out var isSo) ? isSo : throw Refused(given.Place, given.Value, "Write true, or false.");
        if (type == typeof(int))
            return int.TryParse(given.Value, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var whole)
                ? whole
                : throw Refused(given.Place, given.Value, "Write a whole number.");
        return double.TryParse(given.Value, NumberStyles.Float, CultureInfo.InvariantCulture, out var number)
            ? number
            : throw Refused(given.Place, given.Value, "Write a number, for example 1.5.");
    }

    private static void ReadOrSay(BeaconOptions options, string place, Action<BeaconOptions> read)
    {
        try
        {
            read(options);
        }
        catch (BeaconProblem p) when (!p.Message.Contains(place, StringComparison.Ordinal))
        {
            throw new BeaconProblem(p.Code, $"{place}: {p.Message}", p.Cure, p);
        }
    }

    private static BeaconProblem Unknown(string place, string cure) =>
        new(ProblemCode.InputInvalid, $"{place} is no setting of this service.", $"{cure} The settings are in docs/guide/service.md.");

    private static BeaconProblem Refused(string place, object? value, string cure) =>
        new(ProblemCode.InputInvalid, string.Create(CultureInfo.InvariantCulture, $"{place} is \"{value}\"."), cure);

    private static bool IsPort(int number) => number is > 0 and < 65536;

    private static bool IsLife(double hours) => hours is > 0 and <= MostHours;

    private static bool IsWebAddress(string text) => Uri.TryCreate(text, UriKind.Absolute, out var uri) && uri.Scheme == Uri.UriSchemeHttp;

    private static bool IsLdap(BeaconOptions options) => options.Directory.Contains("://", StringComparison.Ordinal);

    private static void ReadDirectory(BeaconOptions options)
    {
        if (IsLdap(options))
            _ = LdapSettings.Of(options);
    }

    /// <summary>The setting that was probably meant: one that the name begins with, or that a slip of the fingers makes of it.</summary>
    private static string? Alike(string name) =>
        Spelling.Closest(name, Known.Keys) ?? Known.Keys.FirstOrDefault(k => name.StartsWith(k, StringComparison.OrdinalIgnoreCase));
}
