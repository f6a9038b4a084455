using System.Diagnostics;
using System.Globalization;
using System.Runtime.InteropServices;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors;

/// <summary>What proc(5) says of a living process.</summary>
internal readonly record struct ProcessFacts(string Program, int Parent, int Group, int Session);

/// <summary>Processes of servers: found by their pid file, signalled, and asked of the kernel.</summary>
internal static partial class ServerProcess
{
    public const int SigHup = 1,
        SigKill = 9,
        SigTerm = 15;

    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(30);

    /// <summary>The process that a pid file names, when it is the program that is meant: a file that was left behind may name a stranger.</summary>
    public static int? Find(string pidFile, string program) =>
        InFile(pidFile) is { } pid && Living(pid) is { } facts && facts.Program == program ? pid : null;

    public static int? InFile(string pidFile)
    {
        try
        {
            // Some servers hold a lock on it as long as they run; the platform's own way of opening asks for one.
            if (SafeFolder.OpenRegular(pidFile) is not { } handle)
                return null;
            using var file = new FileStream(handle, FileAccess.Read);
            using var reader = new StreamReader(file);
            var first = reader.ReadLine();
            return int.TryParse(first?.Trim(), CultureInfo.InvariantCulture, out var pid) ? pid : null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or BeaconProblem)
        {
            return null;
        }
    }

    /// <summary>Null when it is gone, or a zombie.</summary>
    public static ProcessFacts? Living(int pid)
    {
        try
        {
            // The name in parentheses; after it state, parent, process group, session.
            var stat = File.ReadAllText($"/proc/{pid}/stat");
            var (open, close) = (stat.IndexOf('('), stat.LastIndexOf(')'));
            var fields = stat[(close + 2)..].Split(' ');
            return fields[0] == "Z" ? null : new(stat[(open + 1)..close], int.Parse(fields[1]), int.Parse(fields[2]), int.Parse(fields[3]));
        }
        catch (Exception e)
            when (e is IOException or UnauthorizedAccessException or FormatException or IndexOutOfRangeException or ArgumentException)
        {
            return null;
        }
    }

    /// <summary>Removes a pid file whose process has ended and was not collected by its parent yet: the server would take it for one that runs.</summary>
    public static void ForgetEnded(string pidFile)
    {
        if (InFile(pidFile) is { } pid && Living(pid) is null && Directory.Exists($"/proc/{pid}"))
            File.Delete(pidFile);
    }

    public static IEnumerable<int> All() =>
        Directory.EnumerateDirectories("/proc").Select(d => int.TryParse(Path.GetFileName(d), out var pid) ? pid : 0).Where(pid => pid > 0);

    /// <summary>Living children of a process that run one of the programs.</summary>
    public static HashSet<int> ChildrenOf(int parent, params string[] programs) =>
        [.. All().Where(p => Living(p) is { } f && f.Parent == parent && programs.Contains(f.Program))];

    /// <summary>Whether a process takes new clients: it holds a socket that listens (proc(5), <c>net/tcp</c> and <c>net/tcp6</c>, state 0A).</summary>
    public static bool Listens(int pid)
    {
        try
        {
            var listening = ListeningSockets(pid, "tcp").Concat(ListeningSockets(pid, "tcp6")).ToHashSet();
            return Directory.EnumerateFiles($"/proc/{pid}/fd").Any(f => TargetOf(f) is { } to && listening.Contains(to));
        }
        catch (IOException)
        {
            // It has gone meanwhile.
            return false;
        }
        catch (UnauthorizedAccessException)
        {
            // Somebody else's: as long as it lives it may.
            return true;
        }
    }

    private static string? TargetOf(string link)
    {
        try
        {
            return File.ResolveLinkTarget(link, false)?.Name;
        }
        catch (IOException)
        {
            // Closed while they were counted.
            return null;
        }
    }

    private static IEnumerable<string> ListeningSockets(int pid, string table)
    {
        const int State = 3,
            Inode = 9;
        return File.ReadLines($"/proc/{pid}/net/{table}")
            .Select(l => l.Split(' ', StringSplitOptions.RemoveEmptyEntries))
            .Where(f => f.Length > Inode && f[State] == "0A")
            .Select(f => $"socket:[{f[Inode]}]");
    }

    /// <summary>
    /// Whether a master that keeps a signal out while it works is at work still: the signal waits, or is kept out
    /// (proc(5), <c>ShdPnd</c> and <c>SigBlk</c>). One that is told twice takes up twice, one after the other.
    /// </summary>
    public static bool IsAtWork(int pid, int signal)
    {
        var bit = 1UL << (signal - 1);
        try
        {
            return File.ReadLines($"/proc/{pid}/status").Any(l => (l.StartsWith("ShdPnd:") || l.StartsWith("SigBlk:")) && HasBit(l, bit));
        }
        catch (IOException)
        {
            return false;
        }
    }

    /// <summary>
    /// Whether it waits in select(2) for its clients (proc(5), <c>syscall</c>: the call's number, then its arguments). One that only sleeps there, as in the middle of its work,
    /// waits on no descriptor. Where the kernel does not say it is taken for waiting.
    /// </summary>
    public static bool WaitsForClients(int pid)
    {
        const string Running = "running";
        string said;
        try
        {
            said = File.ReadAllText($"/proc/{pid}/syscall").Trim();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return true;
        }
        if (said == Running)
            return false;
        var call = said.Split(' ');
        return call.Length < 2 || SelectCalls.Contains(call[0]) && call[1] != "0x0";
    }

    /// <summary>select and pselect6 by their numbers in the kernel's tables.</summary>
    private static readonly string[] SelectCalls = RuntimeInformation.ProcessArchitecture == Architecture.X64 ? ["23", "270"] : ["72"];

    private static bool HasBit(string line, ulong bit) =>
        ulong.TryParse(line[(line.IndexOf(':') + 1)..].Trim(), NumberStyles.HexNumber, CultureInfo.InvariantCulture, out var set)
        && (set & bit) != 0;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.NotAllowed"/>.</exception>
    public static void Signal(int pid, int signal, string server)
    {
        if (Kill(pid, signal) != 0)
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"The agent may not signal {server} (process {pid}).",
                $"Run the agent as root, or as the account of {server}."
            );
    }

    public static void TrySignal(int pid, int signal) => _ = Kill(pid, signal);

    /// <summary>Runs one of a server's own programs to its end.</summary>
    /// <exception cref="BeaconProblem">It is not there, or does not end.</exception>
    public static (int Code, string Output, string Error) Run(params string[] command) => RunWith([], command);

    /// <summary>Runs a program to its end.</summary>
    /// <param name="input">What it reads from its standard input.</param>
    /// <exception cref="BeaconProblem">It is not there, or does not end.</exception>
    public static (int Code, string Output, string Error) RunWith(byte[] input, params string[] command)
    {
        try
        {
            var start = new ProcessStartInfo(command[0], command.Skip(1))
            {
                RedirectStandardError = true,
                RedirectStandardOutput = true,
                RedirectStandardInput = true,
                WorkingDirectory = "/",
            };
            // Messages are read by us, and by people in our own words.
            start.Environment["LC_ALL"] = "C";
            using var p = Process.Start(start)!;
            var (output, error) = (p.StandardOutput.ReadToEndAsync(), p.StandardError.ReadToEndAsync());
            Feed(p, input);
            if (!p.WaitForExit(Patience))
            {
                p.Kill(entireProcessTree: true);
                throw new BeaconProblem(
                    ProblemCode.ConfigurationBroken,
                    $"{command[0]} did not end within {Patience.TotalSeconds:0} seconds.",
                    $"Run it by hand: {string.Join(' ', command)}."
                );
            }
            // A daemon that was started keeps the pipes open: what it has said until now is enough.
            Task.WaitAll([output, error], TimeSpan.FromSeconds(1));
            return (p.ExitCode, output.IsCompleted ? output.Result : "", error.IsCompleted ? error.Result : "");
        }
        catch (System.ComponentModel.Win32Exception e)
        {
            throw new BeaconProblem(
                ProblemCode.NotFound,
                $"{command[0]} cannot be run: {e.Message}.",
                "Install it, or correct the connector's \"binary\" in agent.json.",
                e
            );
        }
    }

    private static void Feed(Process p, byte[] input)
    {
        try
        {
            p.StandardInput.BaseStream.Write(input);
            p.StandardInput.Close();
        }
        // Who does not read its input has ended, and says why by its code.
        catch (IOException) { }
    }

    /// <summary>Waits for a server that was started.</summary>
    public static void WaitUntil(Func<bool> isThere)
    {
        for (var i = 0; i < 100 && !isThere(); i++)
            Thread.Sleep(100);
    }

    /// <summary>Waits for a server that says that it runs before it takes clients; one that has ended meanwhile is not waited for.</summary>
    /// <param name="running">The process that listens; null when there is none.</param>
    public static void WaitUntilItListens(Func<int?> running) => WaitUntil(() => running() is not { } pid || Listens(pid));

    [LibraryImport("libc", EntryPoint = "kill", SetLastError = true)]
    private static partial int Kill(int pid, int signal);
}
