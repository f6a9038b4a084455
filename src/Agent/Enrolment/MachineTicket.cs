using System.Net;
using System.Net.Http.Headers;
using System.Net.Security;
using System.Runtime.InteropServices;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Agent.Enrolment;

/// <summary>
/// The computer's own Kerberos ticket for the service, made from its keytab (RFC 4121, by HTTP Negotiate). The platform's acceptor does not look whether a ticket is bound to the
/// TLS connection that it comes over: so it is shown over a connection only whose other end is known by its root.
/// </summary>
internal sealed partial class MachineTicket : IDisposable
{
    private readonly NegotiateAuthentication _negotiation;

    public MachineTicket(Uri service)
    {
        _negotiation = new(
            new NegotiateAuthenticationClientOptions
            {
                Package = "Kerberos",
                Credential = CredentialCache.DefaultNetworkCredentials,
                TargetName = "HTTP/" + service.Host,
                RequireMutualAuthentication = true,
            }
        );
    }

    /// <summary>Tickets come from this keytab, whoever is signed in at the machine; none is left behind in a file.</summary>
    public static void UseKeytab(string path)
    {
        if (!File.Exists(path))
            throw new BeaconProblem(
                ProblemCode.NotFound,
                $"There is no keytab {path}.",
                "Join the computer to the domain first, or name its keytab with --keytab."
            );
        Set("KRB5_CLIENT_KTNAME", "FILE:" + Path.GetFullPath(path));
        Set("KRB5CCNAME", "MEMORY:");
    }

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.TicketRefused"/>: there is no ticket to be had.</exception>
    public AuthenticationHeaderValue Header()
    {
        var token = _negotiation.GetOutgoingBlob(ReadOnlySpan<byte>.Empty, out var status);
        if (
            token is null
            || status is not (NegotiateAuthenticationStatusCode.Completed or NegotiateAuthenticationStatusCode.ContinueNeeded)
        )
            throw new BeaconProblem(
                ProblemCode.TicketRefused,
                $"The computer gets no Kerberos ticket for the service ({status}).",
                "See that the keytab is this computer's newest, that a domain controller can be reached, that the clock is right to five minutes, and that the service's name has an account in the domain."
            );
        return new("Negotiate", Convert.ToBase64String(token));
    }

    private static void Set(string name, string value) => SetVariable(name, value, 1);

    // The Kerberos library reads the process's own environment, which the platform's does not change.
    [LibraryImport("libc", EntryPoint = "setenv", StringMarshalling = StringMarshalling.Utf8)]
    private static partial int SetVariable(string name, string value, int overwrite);

    public void Dispose() => _negotiation.Dispose();
}
