using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Text;

namespace OrderlyBeacon.Agent.Tests.Devices;

/// <summary>
/// A device with a shell: a real sshd that sees an /opt of its own, small enough to be filled, and behind it a real nginx or HAProxy that reads the device's files.
/// </summary>
internal sealed class ShellHost : IDisposable
{
    private const int Kilobytes = 512;
    private readonly Scratch _scratch = new();
    private readonly Process _sshd;

    public ShellHost(string kind)
    {
        Kind = kind;
        (SshPort, FrontPort) = (FreePort(), FreePort());
        File.SetUnixFileMode(_scratch.Path, File.GetUnixFileMode(_scratch.Path) | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute);
        Directory.CreateDirectory(_scratch["front"]);
        NewHostKey();
        File.WriteAllText(_scratch["authorized_keys"], "");
        File.WriteAllText(
            _scratch["sshd_config"],
            $"""
            ListenAddress {Address}
            Port {SshPort}
            HostKey {_scratch["host-key"]}
            PidFile {_scratch["sshd.pid"]}
            AuthorizedKeysFile {_scratch["authorized_keys"]}
            # The newer way to agree on a key takes each side a quarter of a second here, two hundred times.
            KexAlgorithms curve25519-sha256
            AuthenticationMethods publickey
            UsePAM no
            StrictModes no
            PermitRootLogin prohibit-password
            PrintMotd no
            UseDNS no
            MaxStartups 100
            # Else bash takes itself for a login and reads what this machine's root has in its files.
            SetEnv SHLVL=2

            """
        );
        Directory.CreateDirectory("/run/sshd");
        var mount = $"mount -t tmpfs -o size={Kilobytes}k tmpfs /opt && exec /usr/sbin/sshd -D -e -f {_scratch["sshd_config"]}";
        _sshd = Process.Start(new ProcessStartInfo("unshare", ["-m", "sh", "-c", mount]) { RedirectStandardError = true })!;
        _sshd.BeginErrorReadLine();
        Until(() => Connects(SshPort));
        Furnish();
        Do($"{Control} restart");
        Until(() => Connects(FrontPort));
    }

    public string Kind { get; }
    public string Address { get; } = $"127.79.{Random.Shared.Next(1, 250)}.{Random.Shared.Next(1, 250)}";
    public int SshPort { get; }
    public int FrontPort { get; }

    /// <summary>What the device serves before anybody looks after it.</summary>
    public string FirstSerial { get; private set; } = "";

    private string Home => $"/opt/{Kind}";

    private string Control => Kind == "hypervisor" ? $"{Home}/bin/manager" : $"{Home}/restart-panel";

    /// <summary>The file with the key, as the device sees it.</summary>
    public string KeyFile => Kind == "hypervisor" ? $"{Home}/tls/manager.key" : $"{Home}/panel.pem";

    public string LeafFile => Kind == "hypervisor" ? $"{Home}/tls/manager.crt" : $"{Home}/panel.pem";

    public string HostKeyFingerprint => Programs.Run("ssh-keygen", ["-l", "-f", _scratch["host-key.pub"]]).Output.Split(' ')[1];

    /// <summary>A path of the device, as this machine reaches it.</summary>
    public string Inside(string path) => $"/proc/{_sshd.Id}/root{path}";

    /// <summary>Runs a command on the device.</summary>
    public string Do(string command)
    {
        var (code, output, error) = Programs.Run("nsenter", ["-t", $"{_sshd.Id}", "-m", "sh", "-c", command + " >/dev/null 2>&1"]);
        Assert.True(code == 0, $"{command}: {error}");
        return output;
    }

    private void Furnish()
    {
        var (key, leaf) = (_scratch["old.key"], _scratch["old.crt"]);
        Programs.OpenSsl(
            $"req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {key} -out {leaf} -days 30 -subj /CN=as-delivered"
        );
        FirstSerial = Programs.OpenSsl($"x509 -in {leaf} -noout -serial").Trim().Split('=')[1];
        var run = _scratch["front"];
        if (Kind == "hypervisor")
        {
            Directory.CreateDirectory(Inside($"{Home}/tls"));
            Directory.CreateDirectory(Inside($"{Home}/bin"));
            File.Copy(key, Inside(KeyFile));
            File.Copy(leaf, Inside(LeafFile));
            File.SetUnixFileMode(Inside(KeyFile), UnixFileMode.UserRead | UnixFileMode.UserWrite);
            File.WriteAllText(
                Inside($"{Home}/nginx.conf"),
                $"pid {run}/pid;\nerror_log {run}/log;\nevents {{}}\nhttp {{ access_log off; client_body_temp_path {run}/b; proxy_temp_path {run}/p; fastcgi_temp_path {run}/f; uwsgi_temp_path {run}/u; scgi_temp_path {run}/s;\n"
                    + $"server {{ listen {Address}:{FrontPort} ssl; ssl_certificate {LeafFile}; ssl_certificate_key {KeyFile}; location / {{ return 200 hypervisor; }} }} }}\n"
            );
            Script(
                Control,
                $"""
                case $1 in
                check) exec nginx -t -q -c {Home}/nginx.conf;;
                restart)
                  [ -s {run}/pid ] && kill -TERM "$(cat {run}/pid)" && sleep 0.3
                  exec nginx -c {Home}/nginx.conf;;
                esac
                """
            );
            return;
        }
        Directory.CreateDirectory(Inside(Home));
        File.WriteAllText(Inside(KeyFile), File.ReadAllText(key) + File.ReadAllText(leaf));
        File.WriteAllText(
            Inside($"{Home}/haproxy.cfg"),
            $"global\n  maxconn 100\ndefaults\n  mode http\n  timeout connect 5s\n  timeout client 5s\n  timeout server 5s\nfrontend panel\n  bind {Address}:{FrontPort} ssl crt {KeyFile}\n  http-request return status 200\n"
        );
        Script(
            Control,
            $"""
            if [ -s {run}/pid ]; then kill -TERM "$(cat {run}/pid)"; sleep 0.3; fi
            exec haproxy -D -f {Home}/haproxy.cfg -p {run}/pid
            """
        );
    }

    /// <summary>A program of the device.</summary>
    public void Script(string path, string body)
    {
        File.WriteAllText(Inside(path), $"#!/bin/sh\n{body}\n");
        File.SetUnixFileMode(Inside(path), UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
    }

    /// <summary>What the device's control does from now on in front of what it did.</summary>
    public void Meddle(string with) => Script(Control, with + "\n" + File.ReadAllText(Inside(Control)).Split('\n', 2)[1]);

    /// <summary>Lets the agent in.</summary>
    /// <param name="by">Options before the key, as of authorized_keys(5).</param>
    public void Admit(string publicKey, string by = "restrict") => File.WriteAllText(_scratch["authorized_keys"], $"{by} {publicKey}\n");

    public void NewHostKey()
    {
        foreach (var old in new[] { "host-key", "host-key.pub" })
            File.Delete(_scratch[old]);
        Programs.Run("ssh-keygen", ["-q", "-t", "ed25519", "-N", "", "-f", _scratch["host-key"]]);
        if (File.Exists(_scratch["sshd.pid"]))
        {
            Programs.Run("kill", ["-HUP", File.ReadAllText(_scratch["sshd.pid"]).Trim()]);
            Until(() =>
                Programs
                    .Run("ssh-keyscan", ["-p", $"{SshPort}", Address])
                    .Output.Contains(File.ReadAllText(_scratch["host-key.pub"]).Split(' ')[1])
            );
        }
    }

    /// <summary>Leaves so much room on the disk.</summary>
    public void Fill(int bytesLeft)
    {
        var free = new DriveInfo(Inside("/opt")).AvailableFreeSpace;
        File.WriteAllBytes(Inside("/opt/filled"), new byte[Math.Max(0, free - bytesLeft)]);
    }

    public void Empty() => File.Delete(Inside("/opt/filled"));

    /// <summary>Name, mode and content of all files of the device, without what is in progress.</summary>
    public string Snapshot() =>
        string.Join(
            '\n',
            Directory
                .GetFiles(Inside(Home), "*", SearchOption.AllDirectories)
                .Where(f => !f.Contains("/beacon/"))
                .Order(StringComparer.Ordinal)
                .Select(f =>
                    $"{f} {File.GetUnixFileMode(f)} {Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(f)))}"
                )
        );

    public string? Served() => SwapBench.Served(Address, FrontPort, "hv01.thistledown.example");

    /// <summary>What is in progress on the device.</summary>
    public IReadOnlyList<string> InProgress() =>
        Directory.Exists(Inside($"{Home}/beacon"))
            ? [.. Directory.GetFileSystemEntries(Inside($"{Home}/beacon")).Select(p => Path.GetFileName(p)!).Order(StringComparer.Ordinal)]
            : [];

    private bool Connects(int port)
    {
        try
        {
            using var client = new TcpClient();
            client.Connect(Address, port);
            return true;
        }
        catch (SocketException)
        {
            return false;
        }
    }

    private static void Until(Func<bool> isSo)
    {
        for (var i = 0; i < 200; i++)
        {
            if (isSo())
                return;
            Thread.Sleep(50);
        }
        Assert.Fail("the device does not start");
    }

    public static int FreePort() => Ports.Free();

    public void Dispose()
    {
        if (File.Exists(Path.Combine(_scratch["front"], "pid")))
            Programs.Run("sh", ["-c", $"kill -TERM $(cat {_scratch["front"]}/pid)"]);
        _sshd.Kill(entireProcessTree: true);
        _sshd.WaitForExit();
        _sshd.Dispose();
        _scratch.Dispose();
    }
}

/// <summary>Passes bytes on to a device until so many have gone one way; then the connection is no more.</summary>
internal sealed class CutLine : IDisposable
{
    private readonly TcpListener _listener;
    private readonly IPEndPoint _to;
    private readonly CancellationTokenSource _stop = new();

    public CutLine(string address, int port)
    {
        _to = new(IPAddress.Parse(address), port);
        _listener = new(_to.Address, 0);
        _listener.Start();
        _ = AcceptAsync();
    }

    public int Port => ((IPEndPoint)_listener.LocalEndpoint).Port;

    /// <summary>How many bytes go up, or down, before it is cut; null for all of them.</summary>
    public int? Up { get; set; }

    public int? Down { get; set; }

    private async Task AcceptAsync()
    {
        try
        {
            while (true)
                _ = PassAsync(await _listener.AcceptTcpClientAsync(_stop.Token));
        }
        catch (Exception e) when (e is OperationCanceledException or ObjectDisposedException or SocketException) { }
    }

    private async Task PassAsync(TcpClient from)
    {
        using var to = new TcpClient();
        using (from)
            try
            {
                await to.ConnectAsync(_to);
                await Task.WhenAny(PumpAsync(from, to, Up), PumpAsync(to, from, Down));
            }
            catch (Exception e) when (e is IOException or SocketException) { }
    }

    private static async Task PumpAsync(TcpClient from, TcpClient to, int? most)
    {
        var buffer = new byte[1024];
        var left = most ?? int.MaxValue;
        int n;
        while (left > 0 && (n = await from.GetStream().ReadAsync(buffer.AsMemory(0, Math.Min(buffer.Length, left)))) > 0)
        {
            await to.GetStream().WriteAsync(buffer.AsMemory(0, n));
            left -= n;
        }
    }

    public void Dispose()
    {
        _stop.Cancel();
        _listener.Stop();
        _stop.Dispose();
    }
}
