using System.Net.Sockets;
using OrderlyBeacon.Core;
using Renci.SshNet;
using Renci.SshNet.Common;
using ConnectionInfo = Renci.SshNet.ConnectionInfo;

namespace OrderlyBeacon.Service.Publishing;

/// <summary>A folder on an SFTP server. Its host key is known beforehand; each file is renamed into place, so that clients never see half of one.</summary>
internal sealed class SftpTarget(Uri address) : IPushTarget
{
    public string Name => $"sftp://{address.UserInfo}@{address.Host}{(address.Port > 0 ? ":" + address.Port : "")}{address.AbsolutePath}";

    public Task PushAsync(IReadOnlyList<PublishedFile> files, CancellationToken ct) => Task.Run(() => Push(files, ct), ct);

    private void Push(IReadOnlyList<PublishedFile> files, CancellationToken ct)
    {
        var (keyFile, expected) = (PushPublished.Query(address, "key"), PushPublished.Query(address, "host-key"));
        if (keyFile.Length == 0 || !expected.StartsWith("SHA256:", StringComparison.Ordinal))
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"{Name}: its key file or its host key is not given.",
                "Write ?key=FILE&host-key=SHA256:… (ssh-keyscan HOST | ssh-keygen -lf - shows it)."
            );
        string? shown = null;
        try
        {
            using var key = new PrivateKeyFile(keyFile);
            using var client = Client(key);
            client.HostKeyReceived += (_, e) =>
            {
                shown = "SHA256:" + e.FingerPrintSHA256;
                e.CanTrust = shown == expected;
            };
            client.Connect();
            var folder = Uri.UnescapeDataString(address.AbsolutePath).TrimEnd('/');
            foreach (var f in files)
            {
                ct.ThrowIfCancellationRequested();
                Push(client, f, $"{folder}/{f.Name}", $"{folder}/.{f.Name}.new");
            }
            client.Disconnect();
        }
        catch (Exception e)
            when (e is SshException or SocketException or IOException or UnauthorizedAccessException or InvalidOperationException)
        {
            throw shown is not null && shown != expected
                ? new BeaconProblem(
                    ProblemCode.Unreachable,
                    $"{Name} shows the host key {shown}, not {expected}: it is another server, or somebody is in between.",
                    "If the server was set up anew, put its new host key into the setting Pushes.",
                    e
                )
                : new BeaconProblem(
                    ProblemCode.Unreachable,
                    $"{Name} cannot be written: {e.Message}",
                    "See that the server runs, that it knows our key, and that the folder is there and ours to write; it is tried again.",
                    e
                );
        }
    }

    private SftpClient Client(PrivateKeyFile key) =>
        new SftpClient(
            new ConnectionInfo(
                address.Host,
                address.Port > 0 ? address.Port : 22,
                address.UserInfo,
                new PrivateKeyAuthenticationMethod(address.UserInfo, key)
            )
            {
                Timeout = TimeSpan.FromSeconds(10),
            }
        );

    /// <param name="beside">Where it is written before it takes its place at once.</param>
    private void Push(SftpClient client, PublishedFile f, string path, string beside)
    {
        if (!client.Exists(path) || !client.ReadAllBytes(path).AsSpan().SequenceEqual(f.Bytes))
        {
            using (var content = new MemoryStream(f.Bytes))
                client.UploadFile(content, beside, canOverride: true);
            client.RenameFile(beside, path, isPosix: true);
        }
        PushPublished.Compare(f, client.ReadAllBytes(path), Name);
    }
}
