using System.Globalization;
using System.Runtime.InteropServices;

namespace OrderlyBeacon.Service.Domain;

/// <summary>
/// The Kerberos and LDAP libraries read settings from the process's own environment, which the platform's <see cref="Environment"/> does not change on Linux.
/// </summary>
internal static partial class NativeEnvironment
{
    /// <summary>The keytab serves for both sides: tickets are taken with its key, and the service signs in at the directory with it, without a file of tickets.</summary>
    public static void UseKeytab(string path)
    {
        Set("KRB5_KTNAME", "FILE:" + path);
        Set("KRB5_CLIENT_KTNAME", "FILE:" + path);
        Set("KRB5CCNAME", "MEMORY:");
    }

    /// <summary>The platform bounds questions only: a server that takes the connection and is silent would hold whoever signs in for ever. Before the first connection.</summary>
    public static void BoundLdapWaits(TimeSpan wait)
    {
        var seconds = wait.TotalSeconds.ToString("0", CultureInfo.InvariantCulture);
        Set("LDAPNETWORK_TIMEOUT", seconds);
        Set("LDAPTIMEOUT", seconds);
    }

    private static void Set(string name, string value) => SetVariable(name, value, 1);

    [LibraryImport("libc", EntryPoint = "setenv", StringMarshalling = StringMarshalling.Utf8)]
    private static partial int SetVariable(string name, string value, int overwrite);
}
