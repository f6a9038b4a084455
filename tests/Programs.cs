using System.Diagnostics;

namespace OrderlyBeacon.Testing;

/// <summary>Runs independent programs as judges.</summary>
internal static class Programs
{
    public static readonly string Root = typeof(Programs)
        .Assembly.GetCustomAttributes(typeof(System.Reflection.AssemblyMetadataAttribute), false)
        .Cast<System.Reflection.AssemblyMetadataAttribute>()
        .Single(a => a.Key == "Root")
        .Value!;

    public static (int Code, string Output, string Error) Run(
        string program,
        IEnumerable<string> args,
        byte[]? input = null,
        IReadOnlyDictionary<string, string>? environment = null,
        int seconds = 120
    )
    {
        var start = new ProcessStartInfo(program, args)
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            RedirectStandardInput = true,
        };
        foreach (var (k, v) in environment ?? new Dictionary<string, string>())
            start.Environment[k] = v;
        using var p = Process.Start(start) ?? throw new InvalidOperationException(program);
        var (output, error) = (p.StandardOutput.ReadToEndAsync(), p.StandardError.ReadToEndAsync());
        try
        {
            if (input is not null)
                p.StandardInput.BaseStream.Write(input);
            p.StandardInput.Close();
        }
        catch (IOException) { }
        if (!p.WaitForExit(seconds * 1000))
        {
            p.Kill(true);
            throw new TimeoutException($"{program} {string.Join(' ', args)} did not end");
        }
        return (p.ExitCode, output.Result, error.Result);
    }

    /// <summary>Runs openssl and returns its output; fails the test when it fails.</summary>
    public static string OpenSsl(string args, byte[]? input = null)
    {
        var (code, output, error) = Run("openssl", args.Split(' ', StringSplitOptions.RemoveEmptyEntries), input);
        Assert.True(code == 0, $"openssl {args}: {error}");
        return output;
    }
}

/// <summary>
/// Ports for servers of tests. Not those that the system gives out by itself: any connection of anybody may have such a one by the time that the server wants it.
/// </summary>
internal static class Ports
{
    private const int First = 11_000,
        Last = 19_999;
    private static readonly System.Collections.Concurrent.ConcurrentDictionary<int, bool> Given = [];

    public static int Free()
    {
        while (true)
        {
            var port = Random.Shared.Next(First, Last + 1);
            if (!Given.TryAdd(port, true))
                continue;
            try
            {
                using var l = new System.Net.Sockets.TcpListener(System.Net.IPAddress.Any, port);
                l.Start();
                return port;
            }
            catch (System.Net.Sockets.SocketException)
            {
                // Somebody has it.
            }
        }
    }
}

/// <summary>A folder of its own, gone after the test.</summary>
internal sealed class Scratch : IDisposable
{
    public string Path { get; } = Directory.CreateTempSubdirectory("beacon-test-").FullName;

    public string File(string name, byte[] content)
    {
        var path = System.IO.Path.Combine(Path, name);
        System.IO.File.WriteAllBytes(path, content);
        return path;
    }

    public string File(string name, string content) => File(name, System.Text.Encoding.UTF8.GetBytes(content));

    public string this[string name] => System.IO.Path.Combine(Path, name);

    public void Dispose()
    {
        try
        {
            Directory.Delete(Path, recursive: true);
        }
        catch (IOException) { }
    }
}

/// <summary>
/// Our own programs. <c>./check</c> has just built those that are delivered, ahead of time: with <c>BEACON_PROGRAMS=out</c> tests run these, which start at once. Without it they
/// run what was built beside them.
/// </summary>
internal static class Own
{
    public static readonly string Client = Of("cli", "beacon");
    public static readonly string Agent = Of("agent", "beacon-agent");
    public static readonly string Service = Of("service", "beacond");

    /// <summary>The stand-ins are for the demo and tests alone: they are run as they were built.</summary>
    public static string StandIns => Path.Combine(AppContext.BaseDirectory, "stand-ins");

    private static string Of(string folder, string program) =>
        Environment.GetEnvironmentVariable("BEACON_PROGRAMS") == "out"
            ? Path.Combine(Programs.Root, "out", folder, program)
            : Path.Combine(AppContext.BaseDirectory, program);
}
