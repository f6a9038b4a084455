using System.Security.Cryptography;

namespace OrderlyBeacon.Agent.Devices.Shell;

/// <summary>A host key as <c>ssh-keyscan</c> writes it: address, type and blob (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT").</summary>
internal sealed record HostKey(string Type, string Blob)
{
    /// <summary>As people compare it: <c>SHA256:</c> and Base64 without padding.</summary>
    public string Fingerprint => "SHA256:" + Convert.ToBase64String(SHA256.HashData(Convert.FromBase64String(Blob))).TrimEnd('=');

    /// <summary>What a client that insists on this key offers to take.</summary>
    public string Algorithms => Type == "ssh-rsa" ? "rsa-sha2-512,rsa-sha2-256" : Type;

    public static IReadOnlyList<HostKey> ReadAll(string scanned)
    {
        const int Most = 16;
        var keys = new List<HostKey>();
        foreach (var line in scanned.Split('\n').Where(l => !l.StartsWith('#')))
            if (line.Split(' ', StringSplitOptions.RemoveEmptyEntries) is [_, var type, var blob, ..] && IsBlob(blob) && keys.Count < Most)
                keys.Add(new(type, blob));
        return keys;
    }

    private static bool IsBlob(string text) => Convert.TryFromBase64String(text, new byte[text.Length], out _);
}
