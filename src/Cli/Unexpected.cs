using System.Globalization;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Cli;

/// <summary>What nobody foresaw: told in a line with a number, its details kept in a file for whoever looks into it.</summary>
internal static class Unexpected
{
    public static BeaconProblem Keep(Exception e)
    {
        var number = DateTimeOffset.UtcNow.ToString("yyyyMMdd-HHmmss-fff", CultureInfo.InvariantCulture);
        var path = Path.Combine(Session.Folder, "errors", number + ".txt");
        try
        {
            Directory.CreateDirectory(
                Path.GetDirectoryName(path)!,
                UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute
            );
            File.WriteAllText(path, $"beacon {Program.Version}\n{e}\n");
        }
        catch (Exception x) when (x is IOException or UnauthorizedAccessException)
        {
            path = "nowhere, since no file could be written";
        }
        return new(ProblemCode.Internal, $"Something unexpected went wrong ({number}).", $"Its details are kept in {path}; report them.");
    }
}
