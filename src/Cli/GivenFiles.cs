using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;

namespace OrderlyBeacon.Cli;

/// <summary>Files and folders that somebody names, read whole.</summary>
internal static class GivenFiles
{
    /// <summary>A folder gives the files in it, not those further down.</summary>
    /// <exception cref="BeaconProblem">One cannot be read, or together they are too large.</exception>
    public static List<FilePart> Read(IEnumerable<string> paths)
    {
        var parts = new List<FilePart>();
        long bytes = 0;
        foreach (var path in paths.SelectMany(Files))
            try
            {
                if ((bytes += new FileInfo(path).Length) > CertificateBag.MostBytes)
                    throw new BeaconProblem(
                        ProblemCode.TooLarge,
                        $"With {path} it is more than {CertificateBag.MostBytes >> 20} MiB.",
                        "Give the certificate files alone."
                    );
                parts.Add(new(Path.GetFileName(path), Convert.ToBase64String(File.ReadAllBytes(path))));
            }
            catch (Exception e) when (e is IOException or UnauthorizedAccessException)
            {
                throw new BeaconProblem(ProblemCode.NotFound, $"{path} cannot be read: {e.Message}", "Check the path.", e);
            }
        return parts;
    }

    private static IEnumerable<string> Files(string path) => Directory.Exists(path) ? Directory.EnumerateFiles(path).Order() : [path];

    /// <summary>Whether a passphrase is needed to read them.</summary>
    public static bool AreLocked(IEnumerable<FilePart> parts) =>
        parts.Any(p =>
        {
            try
            {
                return FileInspection
                    .Inspect(Convert.FromBase64String(p.Content))
                    .Any(i => i.Kind is FileItemKind.Pkcs12 or FileItemKind.EncryptedPrivateKey);
            }
            catch (BeaconProblem)
            {
                return false;
            }
        });

    /// <summary>Writes what holds a key: nobody else reads it, and nothing is overwritten.</summary>
    public static void WriteNew(string path, byte[] bytes)
    {
        try
        {
            using var file = new FileStream(
                path,
                new FileStreamOptions
                {
                    Mode = FileMode.CreateNew,
                    Access = FileAccess.Write,
                    UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
                }
            );
            file.Write(bytes);
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            throw new BeaconProblem(
                ProblemCode.CannotWrite,
                $"{path} cannot be written: {e.Message}",
                "Give a file that is not there yet.",
                e
            );
        }
    }
}
