using System.Text;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service;

/// <summary>What belongs to the program, its settings and its console, lies beside it, wherever it is started from.</summary>
internal static class ProgramFolder
{
    private const string Settings = "appsettings.json",
        Section = "Beacon";

    /// <summary>
    /// A builder that does not depend on the working folder. As it comes, it would take its files from there and watch that folder with all that is below it: started from
    /// <c>/</c>, that is every folder of the machine.
    /// </summary>
    /// <exception cref="BeaconProblem">Somebody keeps settings of ours in the working folder.</exception>
    public static WebApplicationBuilder Builder(params string[] args)
    {
        RefuseSettingsElsewhere(Environment.CurrentDirectory);
        return WebApplication.CreateSlimBuilder(
            new WebApplicationOptions
            {
                Args = [.. args, "--hostBuilder:reloadConfigOnChange=false"],
                ContentRootPath = AppContext.BaseDirectory,
            }
        );
    }

    /// <summary>Without the settings that were meant, a service would take another folder for its data and found a new authority there.</summary>
    private static void RefuseSettingsElsewhere(string folder)
    {
        var (there, own) = (Path.Combine(folder, Settings), Path.Combine(AppContext.BaseDirectory, Settings));
        if (there == own || !File.Exists(there))
            return;
        string text;
        try
        {
            text = File.ReadAllText(there);
            // The same folder by another name, or a copy.
            if (File.Exists(own) && text == File.ReadAllText(own))
                return;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"{there} cannot be read ({e.Message.TrimEnd('.')}), and may have settings for this service.",
                $"Start it in another folder. Its settings lie beside the program, in {own}.",
                e
            );
        }
        if (HasOurs(text))
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"{there} has settings for this service, which are not read: its settings lie beside the program.",
                $"Move them to {own}, or give them as variables BEACON_NAME; then start it again."
            );
    }

    private static bool HasOurs(string text)
    {
        try
        {
            using var bytes = new MemoryStream(Encoding.UTF8.GetBytes(text));
            return new ConfigurationBuilder().AddJsonStream(bytes).Build().GetSection(Section).GetChildren().Any();
        }
        catch (Exception e) when (e is InvalidDataException or FormatException or System.Text.Json.JsonException)
        {
            // A comma too many does not make it somebody else's.
            return text.Contains($"\"{Section}\"", StringComparison.OrdinalIgnoreCase);
        }
    }
}
