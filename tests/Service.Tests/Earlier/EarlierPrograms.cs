namespace OrderlyBeacon.Service.Tests.Earlier;

/// <summary>
/// Service and agent of version 0.1, built from its sources beside this file: what hosts have while they are brought up to date one after the other. Its agent knows one
/// kind of server, its store has another form, its database fewer tables.
/// </summary>
internal static class EarlierPrograms
{
    private static readonly Lazy<string> Folder = new(Build);

    public static string Service => Path.Combine(Folder.Value, "src/Service/bin/Debug/net10.0/beacond");
    public static string Agent => Path.Combine(Folder.Value, "src/Agent/bin/Debug/net10.0/beacon-agent");

    private static string Build()
    {
        var folder = Directory.CreateDirectory(Path.Combine(Programs.Root, "out/earlier-0.1")).FullName;
        var done = Path.Combine(folder, "done");
        if (File.Exists(done))
            return folder;
        Run("tar", "xzf", Path.Combine(Programs.Root, "tests/Service.Tests/Earlier/0.1.tar.gz"), "-C", folder);
        foreach (var project in new[] { "src/Agent", "src/Service" })
            Run(
                "dotnet",
                "build",
                Path.Combine(folder, project),
                "-v",
                "q",
                "-p:BuildConsole=false",
                "-p:RunAnalyzers=false",
                "-p:OpenApiGenerateDocuments=false",
                // Its packages were chosen then.
                "-p:NuGetAudit=false"
            );
        File.WriteAllText(done, "");
        return folder;
    }

    private static void Run(string program, params string[] args)
    {
        var (code, output, error) = Programs.Run(program, args, seconds: 400);
        Assert.True(code == 0, $"{program} {string.Join(' ', args)}: {output}{error}");
    }
}
