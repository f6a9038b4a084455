using System.Net;
using System.Net.Http.Headers;
using System.Net.Security;
using System.Runtime.InteropServices;
using System.Security.Cryptography.X509Certificates;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;

namespace OrderlyBeacon.Agent.Enrolment;

/// <summary>
/// The computer's own Kerberos ticket for the service, made from its keytab (RFC 4121, by HTTP Negotiate). Each is bound to the TLS connection that it is sent over, and the
/// service must prove in return that it has the key which the ticket was made for: whoever stands in between can do neither.
/// </summary>
internal sealed partial class MachineTicket : IDisposable
{
    private readonly NegotiateAuthentication _negotiation;
    private readonly EndPointBinding _binding;

    /// <param name="shown">The certificate that was shown at the connection.</param>
    public MachineTicket(Uri service, X509Certificate2 shown)
    {
        _binding = new(shown.RawDataMemory);
        _negotiation = new(
            new NegotiateAuthenticationClientOptions
            {
                Package = "Kerberos",
                Credential = CredentialCache.DefaultNetworkCredentials,
                TargetName = "HTTP/" + service.Host,
                RequireMutualAuthentication = true,
                Binding = _binding,
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

    /// <summary>Reads the service's proof.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.Unreachable"/>: who answers is not the service.</exception>
    public void CheckProof(HttpResponseMessage answer)
    {
        var proof = answer.Headers.WwwAuthenticate.FirstOrDefault(h => h.Scheme == "Negotiate")?.Parameter;
        var status = NegotiateAuthenticationStatusCode.InvalidToken;
        var bytes = new byte[proof?.Length ?? 0];
        if (proof is not null && Convert.TryFromBase64String(proof, bytes, out var length))
            _negotiation.GetOutgoingBlob(bytes.AsSpan(0, length), out status);
        if (status != NegotiateAuthenticationStatusCode.Completed || !_negotiation.IsMutuallyAuthenticated)
            throw new BeaconProblem(
                ProblemCode.Unreachable,
                "What answers has not proved that it is the service of this domain.",
                "Check the address; somebody may be in between."
            );
    }

    private static void Set(string name, string value) => SetVariable(name, value, 1);

    // The Kerberos library reads the process's own environment, which the platform's does not change.
    [LibraryImport("libc", EntryPoint = "setenv", StringMarshalling = StringMarshalling.Utf8)]
    private static partial int SetVariable(string name, string value, int overwrite);

    public void Dispose()
    {
        _negotiation.Dispose();
        _binding.Dispose();
    }
}
