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

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.ServerDied"/>: it did not come back.</exception>
    public static void Restart(string unit)
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
