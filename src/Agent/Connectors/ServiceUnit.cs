using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Connectors;

/// <summary>
/// The unit that a machine's service manager runs a server as: such a server is started again through it, else the manager would take it for stopped.
/// </summary>
internal static class ServiceUnit
{
    private const string Running = "/run/systemd/system",
        Suffix = ".service";

    /// <summary>Null where no manager runs, or the process is in no unit of its own.</summary>
    public static string? Of(int pid)
    {
        try
        {
            return Directory.Exists(Running) ? In(File.ReadAllText($"/proc/{pid}/cgroup")) : null;
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    /// <param name="groups">As cgroups(7) has them: <c>0::/system.slice/mariadb.service</c>.</param>
    public static string? In(string groups) =>
        groups
            .Split('\n')
            .Select(l => l.Split(':', 3))
            .Where(f => f is [_, "" or "name=systemd", _])
            .Select(f => f[2].Split('/').LastOrDefault(part => part.EndsWith(Suffix, StringComparison.Ordinal)))
            .FirstOrDefault(unit =>
                unit is not null && unit.All(c => char.IsAsciiLetterOrDigit(c) || "@_.:-\\".Contains(c, StringComparison.Ordinal))
            );

    /// <summary>Ends a server and starts it again: by its manager, else by a signal and its own program.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ServerDied"/>: it does not end, or did not come back.</exception>
    public static void Restart(int pid, string server, TimeSpan patience, Action start)
    {
        if (Of(pid) is { } unit)
        {
            Restart(unit);
            return;
        }
        ServerProcess.Signal(pid, ServerProcess.SigTerm, server);
        var until = DateTime.UtcNow + patience;
        while (ServerProcess.Living(pid) is not null)
        {
            if (DateTime.UtcNow > until)
                throw new BeaconProblem(
                    ProblemCode.ServerDied,
                    $"{server} does not end within {patience.TotalSeconds:0} seconds.",
                    "See what it is busy with, then try again."
                );
            Thread.Sleep(50);
        }
        start();
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ServerDied"/>: it did not come back.</exception>
    private static void Restart(string unit)
    {
        var (code, _, error) = ServerProcess.Run("systemctl", "restart", "--", unit);
        if (code != 0)
            throw new BeaconProblem(
                ProblemCode.ServerDied,
                $"{unit} does not start again: {error.Trim().TrimEnd('.')}.",
                $"See why: journalctl -u {unit}."
            );
    }
}
