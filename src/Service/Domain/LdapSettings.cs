using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Domain;

/// <summary>How a directory is reached.</summary>
/// <param name="Address"><c>ldap://HOST</c> with Kerberos, or <c>ldaps://HOST</c>.</param>
/// <param name="BindName">Who signs in by password; empty for Kerberos.</param>
/// <param name="TrustFolder">Folder of PEM files of the authorities that the directory's certificate may come from.</param>
internal sealed record LdapSettings(Uri Address, string Base, string Realm, string BindName, string PasswordFile, string TrustFolder)
{
    /// <summary>For messages, inside a sentence.</summary>
    public string Called => $"the directory {Address.Host}";

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>.</exception>
    public static LdapSettings Of(BeaconOptions o)
    {
        if (!Uri.TryCreate(o.Directory, UriKind.Absolute, out var address) || address.Scheme is not ("ldap" or "ldaps"))
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"BEACON_DIRECTORY is \"{o.Directory}\".",
                "Write ldaps://HOST, ldap://HOST (with Kerberos), or the path of a YAML file."
            );
        if (address.Scheme == "ldap" && o.DirectoryName.Length > 0 && !address.IsLoopback)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "A password would go to the directory in the clear.",
                "Use ldaps://, or sign in by Kerberos: leave BEACON_DIRECTORYNAME out."
            );
        return new(address, o.DirectoryBase, o.Realm, o.DirectoryName, o.DirectoryPasswordFile, o.DirectoryTrust);
    }
}
