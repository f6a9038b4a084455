using System.Text.Json;

namespace OrderlyBeacon.StandIns;

/// <summary>A request that was made on the appliance; its key never leaves it.</summary>
/// <param name="KeyPem">PKCS#8.</param>
internal sealed record ApplianceRequest(string Subject, IReadOnlyList<string> Names, string KeyPem, string CsrPem);

/// <summary>What the appliance is set to: anchors, and which request's answer its front serves.</summary>
internal sealed record ApplianceConfiguration(int Revision, IReadOnlyList<string> Anchors, string? ServedLabel, string? ServedChain);

/// <summary>Everything the appliance knows, on disk: it survives being switched off.</summary>
internal sealed record ApplianceContent(
    Dictionary<string, ApplianceRequest> Requests,
    ApplianceConfiguration Candidate,
    ApplianceConfiguration Running
);

internal sealed class ApplianceState(string folder)
{
    private readonly string _path = Path.Combine(folder, "appliance.json");

    public Lock Gate { get; } = new();

    public ApplianceContent Read() =>
        File.Exists(_path)
            ? JsonSerializer.Deserialize<ApplianceContent>(File.ReadAllText(_path))!
            : new([], new(1, [], null, null), new(1, [], null, null));

    public void Write(ApplianceContent content)
    {
        Directory.CreateDirectory(folder);
        var making = _path + ".making";
        using (
            var file = new FileStream(
                making,
                new FileStreamOptions
                {
                    Mode = FileMode.Create,
                    Access = FileAccess.Write,
                    UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
                }
            )
        )
            JsonSerializer.Serialize(file, content);
        File.Move(making, _path, overwrite: true);
    }
}
