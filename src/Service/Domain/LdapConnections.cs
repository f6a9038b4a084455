using System.Collections.Concurrent;
using System.DirectoryServices.Protocols;
using System.Net;
using OrderlyBeacon.Core;

namespace OrderlyBeacon.Service.Domain;

/// <summary>Signed-in connections to a directory: a few at a time, kept between questions, and each wait bounded.</summary>
internal sealed class LdapConnections(LdapSettings settings) : IDisposable
{
    private const int MostConnections = 4;

    // LDAP_INVALID_CREDENTIALS (RFC 4511 appendix A.2) and the library's own "no connection".
    private const int WrongCredentials = 49,
        ServerDown = 81;

    /// <summary>For a connection, a sign-in and each question.</summary>
    private static readonly TimeSpan Wait = TimeSpan.FromSeconds(5);

    static LdapConnections() => NativeEnvironment.BoundLdapWaits(Wait);

    private readonly ConcurrentBag<LdapConnection> _idle = [];
    private readonly SemaphoreSlim _places = new(MostConnections);

    /// <summary>
    /// The platform hands its limit for a question to the library in a form that is too short, so that it may come to hours: who asks waits this long and no longer. The question
    /// keeps its place until the library gives up, so that a directory that is silent holds a few threads and not all.
    /// </summary>
    private static readonly TimeSpan Limit = 2 * Wait;

    /// <exception cref="BeaconProblem"><see cref="ProblemCode.DirectoryAway"/> with the reason, or what the work itself throws.</exception>
    public async Task<T> RunAsync<T>(Func<LdapConnection, T> work, CancellationToken ct)
    {
        if (!await _places.WaitAsync(Limit, ct))
            throw Away(new TimeoutException("it owes the answers to earlier questions still."));
        var asking = Task.Run(() => Run(work), CancellationToken.None);
        _ = asking.ContinueWith(_ => _places.Release(), CancellationToken.None, TaskContinuationOptions.None, TaskScheduler.Default);
        try
        {
            return await asking.WaitAsync(Limit, ct);
        }
        catch (TimeoutException)
        {
            throw Away(new TimeoutException($"no answer within {Limit.TotalSeconds:0} seconds."));
        }
    }

    private T Run<T>(Func<LdapConnection, T> work)
    {
        if (_idle.TryTake(out var kept))
        {
            try
            {
                return With(kept, work);
            }
            catch (DirectoryException)
            {
                // It may have died meanwhile: the second try has a new one.
            }
        }
        try
        {
            return With(Connect(), work);
        }
        catch (Exception e) when (e is DirectoryException or IOException or UnauthorizedAccessException or DllNotFoundException)
        {
            throw Away(e);
        }
    }

    /// <summary>A connection over which an answer came is kept, whatever was made of it.</summary>
    private T With<T>(LdapConnection connection, Func<LdapConnection, T> work)
    {
        var isGood = false;
        try
        {
            var answer = work(connection);
            isGood = true;
            return answer;
        }
        catch (BeaconProblem)
        {
            isGood = true;
            throw;
        }
        finally
        {
            if (isGood)
                _idle.Add(connection);
            else
                connection.Dispose();
        }
    }

    private LdapConnection Connect()
    {
        var connection = New();
        try
        {
            if (settings.BindName.Length == 0)
                connection.Bind();
            else
                connection.Bind(new NetworkCredential(settings.BindName, File.ReadAllText(settings.PasswordFile).Trim()));
            return connection;
        }
        catch
        {
            connection.Dispose();
            throw;
        }
    }

    /// <summary>The port that an address names, else the usual one of its scheme (RFC 4516, RFC 4511).</summary>
    public static int PortOf(Uri address)
    {
        const int plain = 389,
            direct = 636;
        var usual = address.Scheme == "ldaps" ? direct : plain;
        return address.Port > 0 ? address.Port : usual;
    }

    private LdapConnection New()
    {
        var isTls = settings.Address.Scheme == "ldaps";
        var port = PortOf(settings.Address);
        var connection = new LdapConnection(
            new LdapDirectoryIdentifier(settings.Address.Host, port, fullyQualifiedDnsHostName: true, connectionless: false)
        )
        {
            AuthType = settings.BindName.Length == 0 ? AuthType.Kerberos : AuthType.Basic,
            Timeout = Wait,
        };
        connection.SessionOptions.ProtocolVersion = 3;
        connection.SessionOptions.ReferralChasing = ReferralChasingOptions.None;
        if (isTls)
        {
            if (settings.TrustFolder.Length > 0)
            {
                connection.SessionOptions.TrustedCertificatesDirectory = settings.TrustFolder;
                connection.SessionOptions.StartNewTlsSessionContext();
            }
            connection.SessionOptions.SecureSocketLayer = true;
        }
        return connection;
    }

    private BeaconProblem Away(Exception e) =>
        new(
            ProblemCode.DirectoryAway,
            $"{char.ToUpperInvariant(settings.Called[0])}{settings.Called[1..]} does not answer: {Reason(e)}",
            e switch
            {
                DllNotFoundException => "Install Debian's libldap-2.5-0 and libsasl2-modules-gssapi-mit.",
                LdapException { ErrorCode: WrongCredentials } =>
                    "The account that the service signs in with was refused: see its name and password, or its keytab and the clock.",
                DirectoryOperationException { Response.ResultCode: ResultCode.Referral } =>
                    "References are not followed. Name a directory that has the entries itself (BEACON_DIRECTORY), or a base that lies in it (BEACON_DIRECTORYBASE).",
                LdapException { ErrorCode: ServerDown } when settings.Address.Scheme == "ldaps" =>
                    "See that the directory runs and can be reached, and that its certificate is valid for this address and comes from an authority in the folder BEACON_DIRECTORYTRUST.",
                _ =>
                    "See that the directory runs and can be reached; nothing is granted on its word until it answers, and it is asked again by itself.",
            },
            e
        );

    private static string Reason(Exception e) =>
        e switch
        {
            DirectoryOperationException { Response.ResultCode: ResultCode.Referral } => "it refers to another directory.",
            LdapException { ServerErrorMessage: { Length: > 0 } said } => $"{e.Message.TrimEnd('.')} ({said}).",
            _ => e.Message.TrimEnd('.') + ".",
        };

    public void Dispose()
    {
        foreach (var c in _idle)
            c.Dispose();
    }
}
