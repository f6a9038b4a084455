using System.Runtime.InteropServices;

namespace OrderlyBeacon.Service.Domain;

/// <summary>
/// The Kerberos library reads its settings from the process's own environment, which the platform's <see cref="Environment"/> does not change on Linux. The keytab serves for both
/// sides: tickets are taken with its key, and the service signs in at the directory with it, without a file of tickets.
/// </summary>
internal static partial class KerberosEnvironment
{
    public static void Use(string keytab)
    {
        Set("KRB5_KTNAME", "FILE:" + keytab);
        Set("KRB5_CLIENT_KTNAME", "FILE:" + keytab);
        Set("KRB5CCNAME", "MEMORY:");
    }

    private static void Set(string name, string value) => SetVariable(name, value, 1);

    [LibraryImport("libc", EntryPoint = "setenv", StringMarshalling = StringMarshalling.Utf8)]
    private static partial int SetVariable(string name, string value, int overwrite);
}
