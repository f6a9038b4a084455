using System.Text.RegularExpressions;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Devices.Shell;

/// <summary>Where a device's shell is, and as whom one comes: <c>ssh://root@hv01-admin:22</c>.</summary>
internal sealed partial record SshAddress(string Account, string Host, int Port)
{
    private const int UsualPort = 22;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>.</exception>
    public static SshAddress Parse(string text)
    {
        if (
            Uri.TryCreate(text, UriKind.Absolute, out var uri)
            && uri.Scheme == "ssh"
            && uri.AbsolutePath is "" or "/"
            && (uri.UserInfo.Length == 0 || AccountForm().IsMatch(uri.UserInfo))
            && HostForm().IsMatch(uri.IdnHost)
        )
            return new(uri.UserInfo.Length == 0 ? "root" : uri.UserInfo, uri.IdnHost, uri.Port <= 0 ? UsualPort : uri.Port);
        throw new BeaconProblem(ProblemCode.InputInvalid, $"\"{text}\" is no address of a shell.", "Write it as ssh://ACCOUNT@HOST:PORT.");
    }

    [GeneratedRegex("^[A-Za-z_][A-Za-z0-9_.-]{0,63}$", RegexOptions.CultureInvariant)]
    private static partial Regex AccountForm();

    // A name, or an address; never what a program could take for an option.
    [GeneratedRegex("^[A-Za-z0-9:][A-Za-z0-9.:-]{0,252}$", RegexOptions.CultureInvariant)]
    private static partial Regex HostForm();

    public override string ToString() => $"{Account}@{Host}:{Port}";
}
