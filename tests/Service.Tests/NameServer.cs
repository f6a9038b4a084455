using System.Diagnostics;
using System.Net.Sockets;
using System.Security.Cryptography;

namespace OrderlyBeacon.Service.Tests;

/// <summary>A real knot on loopback: branch.example, which whoever has the key may change, and yard.example, which is changed by hand alone.</summary>
internal sealed class NameServer : IDisposable
{
    public const string Address = "127.53.7.1",
        KeyName = "beacon-records";
    private readonly Scratch _s = new();
    private readonly string _byHand = Convert.ToBase64String(RandomNumberGenerator.GetBytes(32));
    private Process? _process;

    /// <summary>Seconds for which others may keep what is in the zones.</summary>
    public const int Life = 2;

    public NameServer()
    {
        var secret = Convert.ToBase64String(RandomNumberGenerator.GetBytes(32));
        File.WriteAllText(KeyFile, secret);
        Directory.CreateDirectory(_s["db"]);
        File.SetUnixFileMode(KeyFile, UnixFileMode.UserRead | UnixFileMode.UserWrite);
        foreach (var zone in new[] { "branch.example", "yard.example" })
            _s.File(
                zone + ".zone",
                $"$ORIGIN {zone}.\n$TTL {Life}\n@ SOA ns hostmaster 1 3600 600 86400 1\n@ NS ns\nns A {Address}\nmail A 127.0.0.9\nother A 127.0.0.9\n"
            );
        _s.File(
            "knot.conf",
            $"""
            server:
              listen: [ {Address}@{Port} ]
              rundir: {_s.Path}
              udp-workers: 1
              tcp-workers: 1
              background-workers: 1
            database:
              storage: {_s["db"]}
              journal-db-max-size: 16M
              kasp-db-max-size: 16M
              timer-db-max-size: 1M
            log:
              - target: stderr
                any: warning
            key:
              - id: {KeyName}
                algorithm: hmac-sha256
                secret: {secret}
              - id: hand
                algorithm: hmac-sha256
                secret: {_byHand}
            acl:
              - id: beacon
                key: {KeyName}
                action: update
                update-type: [TLSA]
              - id: hand
                key: hand
                action: update
            zone:
              - domain: branch.example
                storage: {_s.Path}
                file: branch.example.zone
                acl: [beacon, hand]
              - domain: yard.example
                storage: {_s.Path}
                file: yard.example.zone
                acl: hand
            """
        );
        Start();
    }

    public int Port { get; } = 5390;
    public string KeyFile => _s["records.key"];
    public string Server => $"{Address}:{Port}";

    public void Start()
    {
        _process = Process.Start(new ProcessStartInfo("/usr/sbin/knotd", ["-c", _s["knot.conf"]]) { RedirectStandardError = true })!;
        for (var i = 0; i < 200; i++)
            try
            {
                using var client = new TcpClient(Address, Port);
                return;
            }
            catch (SocketException)
            {
                Thread.Sleep(50);
            }
        throw new InvalidOperationException("knot did not start: " + _process.StandardError.ReadToEnd());
    }

    public void Stop()
    {
        _process!.Kill();
        _process.WaitForExit();
        _process.Dispose();
    }

    /// <summary>What an independent program reads there, as in a zone file.</summary>
    public List<string> Records(string owner) =>
        [
            .. Programs
                .Run("kdig", [$"@{Address}", "-p", $"{Port}", "+short", "+nocrypto", owner, "TLSA"])
                .Output.Split('\n', StringSplitOptions.RemoveEmptyEntries)
                .Where(l => !l.StartsWith(';'))
                .Select(l => string.Join(' ', l.Split(' ')[..3]) + " " + string.Concat(l.Split(' ')[3..]).ToLowerInvariant()),
        ];

    /// <summary>What somebody does by hand.</summary>
    public void Change(string zone, string change)
    {
        var (code, output, error) = Programs.Run(
            "knsupdate",
            ["-y", $"hmac-sha256:hand:{_byHand}"],
            System.Text.Encoding.ASCII.GetBytes($"server {Address} {Port}\nzone {zone}\n{change}\nsend\nanswer\n")
        );
        Assert.True(code == 0 && !error.Contains("failed"), output + error);
    }

    public void Dispose()
    {
        Stop();
        _s.Dispose();
    }
}
