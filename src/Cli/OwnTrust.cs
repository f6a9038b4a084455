using System.Runtime.InteropServices;

namespace OrderlyBeacon.Cli;

/// <summary>
/// Only the service's own root is trusted here. The platform reads the machine's hundred roots before the first connection all the same,
/// which costs more time and memory than everything else: it is told that there are none.
/// </summary>
internal static partial class OwnTrust
{
    public static void Only()
    {
        _ = SetEnv("SSL_CERT_DIR", "/var/empty/no-roots", 1);
        _ = SetEnv("SSL_CERT_FILE", "/var/empty/no-roots", 1);
    }

    // The runtime's own environment is a copy that native code does not see.
    [LibraryImport("libc", EntryPoint = "setenv", StringMarshalling = StringMarshalling.Utf8)]
    private static partial int SetEnv(string name, string value, int overwrite);
}
