using System.ComponentModel;
using System.Diagnostics;
using System.Text;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Devices.Shell;

/// <summary>
/// Runs scripts on a device by the system's ssh, with a key of the agent's own for this device and the one host key that was pinned. Nothing else vouches for the device: no
/// other file of known hosts, no setting of the system's, no agent with keys, no password.
/// </summary>
internal sealed class SshDoor(SshAddress address, string device, string folder)
{
    private const int MostAnswer = 1 << 20;
    private const int SshItself = 255;

    // Its file of host keys has one line, under this name.
    private const string Alias = "device";
    private static readonly TimeSpan ScanPatience = TimeSpan.FromSeconds(20);

    private string KeyFile => Path.Combine(folder, "ssh-key");

    private string HostsFile => Path.Combine(folder, "ssh-host");

    public string Where => $"{address.Host}:{address.Port}";

    public string Host => address.Host;

    public string Folder => folder;

    /// <summary>The agent's key for this device, as a line of authorized_keys; made when it is not there.</summary>
    public async Task<string> PublicKeyAsync(CancellationToken ct)
    {
        if (!File.Exists(KeyFile))
        {
            Directory.CreateDirectory(folder, AtomicFiles.PrivateFolder);
            // Made under another name: a kill leaves half a pair nowhere.
            var made = Path.Combine(folder, "ssh-key.new");
            foreach (var old in new[] { made, made + ".pub" })
                File.Delete(old);
            var (code, _, error) = await RunAsync(
                "ssh-keygen",
                ["-q", "-t", "ed25519", "-N", "", "-C", $"beacon-agent for {device}", "-f", made],
                "",
                ScanPatience,
                ct
            );
            if (code != 0)
                throw new BeaconProblem(
                    ProblemCode.CannotWrite,
                    $"The key for {device} could not be made: {Line(error)}.",
                    "Check the disk of the agent's host."
                );
            File.Move(made + ".pub", KeyFile + ".pub", overwrite: true);
            File.Move(made, KeyFile);
        }
        return (await File.ReadAllTextAsync(KeyFile + ".pub", ct)).Trim();
    }

    /// <summary>The host keys that whoever is there shows now; nothing is sent to it.</summary>
    public async Task<IReadOnlyList<HostKey>> ScanAsync(CancellationToken ct)
    {
        var (_, output, error) = await RunAsync("ssh-keyscan", ["-T", "10", "-p", $"{address.Port}", address.Host], "", ScanPatience, ct);
        var keys = HostKey.ReadAll(output);
        return keys.Count > 0
            ? keys
            : throw Away(error.Split('\n').LastOrDefault(l => l.Length > 0 && !l.StartsWith('#')) ?? "it shows no host key");
    }

    /// <summary>Keeps the key that was compared as the only one that is this device's, if one gets in with it; else the one before stays.</summary>
    public async Task<T> PinAsync<T>(HostKey key, Func<Task<T>> getIn)
    {
        var earlier = Pinned();
        Pin(key);
        try
        {
            return await getIn();
        }
        catch when (earlier is not null)
        {
            Pin(earlier);
            throw;
        }
    }

    private void Pin(HostKey key)
    {
        Directory.CreateDirectory(folder, AtomicFiles.PrivateFolder);
        AtomicFiles.Write(HostsFile, Encoding.ASCII.GetBytes($"{Alias} {key.Type} {key.Blob}\n"), isPrivate: true);
    }

    private HostKey? Pinned() => File.Exists(HostsFile) ? HostKey.ReadAll(File.ReadAllText(HostsFile)).SingleOrDefault() : null;

    /// <summary>Runs a script to its end.</summary>
    /// <param name="shell">What reads it there.</param>
    /// <returns>All that came back, with what the account's own files may have said before and after.</returns>
    /// <exception cref="BeaconProblem">It shows another key, lets nobody in, cannot be reached, or does not end.</exception>
    public async Task<string> RunAsync(string shell, string script, TimeSpan patience, CancellationToken ct)
    {
        var pin =
            Pinned()
            ?? throw new BeaconProblem(
                ProblemCode.NotFound,
                $"No host key of {device} was pinned.",
                $"Tell the agent which it is: beacon device add {device} … --fingerprint."
            );
        var (code, output, error) = await RunAsync("ssh", [.. Options(pin), address.Host, shell], script, patience, ct);
        if (code != SshItself)
            return output;
        if (
            error.Contains("Host key verification failed", StringComparison.Ordinal)
            || error.Contains("no matching host key", StringComparison.Ordinal)
        )
            throw await OtherKeyAsync(pin, ct);
        if (error.Contains("Permission denied", StringComparison.Ordinal))
            throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"{Where} does not let this agent in as {address.Account}.",
                $"Put this line into that account's authorized_keys there, then do it again: restrict {await PublicKeyAsync(ct)}"
            );
        throw Away(Line(error));
    }

    private IEnumerable<string> Options(HostKey pin)
    {
        yield return "-T";
        foreach (var (option, value) in new[] { ("-F", "none"), ("-i", KeyFile), ("-p", $"{address.Port}"), ("-l", address.Account) })
        {
            yield return option;
            yield return value;
        }
        string[] settings =
        [
            "BatchMode=yes",
            "StrictHostKeyChecking=yes",
            // Quoted: without, a blank in it would make two files of it.
            $"UserKnownHostsFile=\"{HostsFile}\"",
            "GlobalKnownHostsFile=/dev/null",
            $"HostKeyAlias={Alias}",
            $"HostKeyAlgorithms={pin.Algorithms}",
            "UpdateHostKeys=no",
            "VerifyHostKeyDNS=no",
            "IdentitiesOnly=yes",
            "IdentityAgent=none",
            "PreferredAuthentications=publickey",
            "ClearAllForwardings=yes",
            "ControlMaster=no",
            "ConnectTimeout=10",
            "ServerAliveInterval=5",
            "ServerAliveCountMax=3",
            "LogLevel=ERROR",
        ];
        foreach (var s in settings)
        {
            yield return "-o";
            yield return s;
        }
    }

    private async Task<BeaconProblem> OtherKeyAsync(HostKey pin, CancellationToken ct)
    {
        var shown = await ScanAsync(ct);
        var same = shown.FirstOrDefault(k => k.Type == pin.Type) ?? shown[0];
        return new(
            ProblemCode.WrongFile,
            $"{Where} shows another host key than {device} had when it was added: {same.Fingerprint} instead of {pin.Fingerprint}. Somebody may stand between. Nothing was sent to it.",
            $"Find out at the device itself why. When it has a new key, compare it there and give it: beacon device add {device} … --fingerprint."
        );
    }

    private BeaconProblem Away(string why) =>
        new(
            ProblemCode.HostAway,
            $"{Where} cannot be reached: {why.TrimEnd('.')}.",
            "See whether it runs, and whether this agent's host gets there."
        );

    private static string Line(string text) =>
        text.Split('\n', StringSplitOptions.RemoveEmptyEntries).LastOrDefault()?.Trim() ?? "it says nothing";

    private async Task<(int Code, string Output, string Error)> RunAsync(
        string program,
        IEnumerable<string> args,
        string input,
        TimeSpan patience,
        CancellationToken ct
    )
    {
        var start = new ProcessStartInfo(program, args)
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            WorkingDirectory = "/",
        };
        start.Environment["LC_ALL"] = "C";
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
        limit.CancelAfter(patience);
        using var process = Start(start);
        try
        {
            var (output, error) = (ReadAsync(process.StandardOutput, limit.Token), ReadAsync(process.StandardError, limit.Token));
            await FeedAsync(process, input, limit.Token);
            await process.WaitForExitAsync(limit.Token);
            return (process.ExitCode, await output, await error);
        }
        catch (OperationCanceledException) when (!ct.IsCancellationRequested)
        {
            throw Away($"it did not end within {patience.TotalSeconds:0} seconds");
        }
        finally
        {
            if (!process.HasExited)
                process.Kill(entireProcessTree: true);
        }
    }

    private static Process Start(ProcessStartInfo start)
    {
        try
        {
            return Process.Start(start)!;
        }
        catch (Win32Exception e)
        {
            throw new BeaconProblem(
                ProblemCode.NotFound,
                $"{start.FileName} cannot be run: {e.Message}.",
                "Install the OpenSSH client on the agent's host.",
                e
            );
        }
    }

    private static async Task FeedAsync(Process process, string input, CancellationToken ct)
    {
        try
        {
            await process.StandardInput.WriteAsync(input.AsMemory(), ct);
            process.StandardInput.Close();
        }
        // Whoever stops reading has ended, and says why.
        catch (IOException) { }
    }

    private async Task<string> ReadAsync(StreamReader from, CancellationToken ct)
    {
        var text = new StringBuilder();
        var buffer = new char[4096];
        int read;
        while ((read = await from.ReadAsync(buffer, ct)) > 0)
            if (text.Append(buffer, 0, read).Length > MostAnswer)
                throw new BeaconProblem(ProblemCode.DataDamaged, $"{Where} answers without end.", "Look what its shell says at a login.");
        return text.ToString();
    }
}
