using System.Net;
using System.Net.Security;
using System.Security.Authentication;
using Microsoft.AspNetCore.Server.Kestrel.Https;
using OrderlyBeacon.Core;
using OrderlyBeacon.Service;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.People;

try
{
    // The build asks for the OpenAPI document: nothing is founded or listened to then.
    var describing = System.Reflection.Assembly.GetEntryAssembly()?.GetName().Name == "GetDocument.Insider";
    if (args.Length > 0 && !describing)
        return await Commands.RunAsync(args);
    var builder = ProgramFolder.Builder(args);
    var options = Settings.Read(builder.Configuration);
    if (options.Keytab.Length > 0)
        OrderlyBeacon.Service.Domain.NativeEnvironment.UseKeytab(options.Keytab);
    builder.Services.AddBeacon(options, hosted: !describing);
    builder.Logging.AddJsonConsole(o =>
    {
        o.UseUtcTimestamp = true;
        o.TimestampFormat = "yyyy-MM-ddTHH:mm:ss.fffZ";
    });
    ServiceCertificate? own = null;
    builder.WebHost.ConfigureKestrel(k =>
    {
        k.AddServerHeader = false;
        k.Limits.MaxRequestBodySize = 4 << 20;
        // Who opens connections and says nothing holds them for a short while only; agents' long polls are requests, and are not meant.
        k.Limits.KeepAliveTimeout = TimeSpan.FromSeconds(70);
        k.Limits.RequestHeadersTimeout = TimeSpan.FromSeconds(15);
        k.Limits.MinRequestBodyDataRate = new(240, TimeSpan.FromSeconds(5));
        if (describing)
            return;
        var address = IPAddress.Parse(options.Listen);
        var sources = new ConnectionLimit(options.ConnectionsPerSource);
        k.Listen(address, options.PublicationPort, l => sources.Use(l));
        k.Listen(
            address,
            options.Port,
            l =>
            {
                sources.Use(l);
                SilentConnections.Use(l, TimeProvider.System);
                l.UseHttps(
                    new TlsHandshakeCallbackOptions
                    {
                        HandshakeTimeout = TimeSpan.FromSeconds(10),
                        OnConnection = _ =>
                            ValueTask.FromResult(
                                new SslServerAuthenticationOptions
                                {
                                    ServerCertificateContext = own!.Context,
                                    ClientCertificateRequired = true,
                                    // TLS proves possession of the key; who it is, and whether it is good now, is decided for each call.
                                    RemoteCertificateValidationCallback = (_, _, _, _) => true,
                                    CertificateChainPolicy = ClientCertificates.NothingFetched,
                                    AllowRenegotiation = false,
                                    EnabledSslProtocols = SslProtocols.Tls12 | SslProtocols.Tls13,
                                    CipherSuitesPolicy = TlsSuites.Policy,
                                }
                            ),
                    }
                );
            }
        );
    });

    var app = builder.Build();
    foreach (var name in Settings.Unread())
        app.Logger.LogWarning("{Name} is no setting of this service, and is not read", name);
    foreach (var (name, path) in Settings.Absent(options))
        app.Logger.LogWarning("{Name} names {Path}, which is not there, or which the user beacond runs as may not see", name, path);
    own = app.Services.GetRequiredService<ServiceCertificate>();
    if (!describing)
        await app.PrepareAsync();
    app.MapBeacon(options);
    await app.RunAsync();
    return 0;
}
catch (BeaconProblem p)
{
    await Console.Error.WriteLineAsync($"beacond: {p.Message} {p.Cure}");
    return 2;
}
catch (IOException e) when (e.InnerException is Microsoft.AspNetCore.Connections.AddressInUseException)
{
    await Console.Error.WriteLineAsync(
        $"beacond: {e.Message} Stop the other program, or give other ports (BEACON_PORT, BEACON_PUBLICATIONPORT)."
    );
    return 2;
}
catch (System.Net.Sockets.SocketException e)
{
    await Console.Error.WriteLineAsync(
        $"beacond: The service cannot listen: {e.Message}. Give an address of this machine (BEACON_LISTEN), and ports that the user beacond runs as may open (BEACON_PORT, BEACON_PUBLICATIONPORT)."
    );
    return 2;
}
catch (Exception e) when (e is IOException or UnauthorizedAccessException)
{
    await Console.Error.WriteLineAsync(
        $"beacond: {e.Message} Check that what the settings name is there, and that the user beacond runs as may use it."
    );
    return 2;
}

/// <summary>For tests.</summary>
public partial class Program;
