using System.Text.Json;
using System.Text.Json.Serialization;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Cli;

/// <summary>Where the client is signed in: <c>session.json</c> (0600) in its folder.</summary>
/// <param name="Root">PEM of the root that is trusted for this service, and no other.</param>
internal sealed record Session(string Service, string Name, string Root, string Token, DateTimeOffset Until)
{
    /// <summary>BEACON_HOME, or <c>~/.config/orderly-beacon</c>.</summary>
    public static string Folder =>
        Environment.GetEnvironmentVariable("BEACON_HOME") is { Length: > 0 } home
            ? home
            : Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".config", "orderly-beacon");

    private static string FilePath => Path.Combine(Folder, "session.json");

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotSignedIn"/>.</exception>
    public static Session Load()
    {
        try
        {
            if (File.Exists(FilePath) && JsonSerializer.Deserialize(File.ReadAllText(FilePath), CliJson.Default.Session) is { } s)
                return s;
        }
        catch (JsonException) { }
        throw new BeaconProblem(
            ProblemCode.NotSignedIn,
            "You are not signed in.",
            "Sign in: beacon sign-in --service https://HOST:PORT --name YOU."
        );
    }

    public void Save()
    {
        Directory.CreateDirectory(Folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        var temporary = FilePath + ".new";
        File.Delete(temporary);
        using (
            var f = new FileStream(
                temporary,
                new FileStreamOptions
                {
                    Mode = FileMode.CreateNew,
                    Access = FileAccess.Write,
                    UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
                }
            )
        )
            JsonSerializer.Serialize(f, this, CliJson.Default.Session);
        File.Move(temporary, FilePath, overwrite: true);
    }

    public static void Forget() => File.Delete(FilePath);
}

[JsonSourceGenerationOptions(PropertyNamingPolicy = JsonKnownNamingPolicy.CamelCase, WriteIndented = true)]
[JsonSerializable(typeof(Session))]
[JsonSerializable(typeof(JsonElement))]
internal sealed partial class CliJson : JsonSerializerContext;
