using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Runtime.InteropServices;
using System.Security.Cryptography.X509Certificates;

// A made-up server: it answers each line with "lit". Settings are lines "name value": listen, process, certificate, key. SIGHUP takes them up anew.
// lantern FILE runs it; lantern -t FILE only says what is wrong.
var test = args[0] == "-t";
var file = args[^1];
var now = Read(file);
if (test)
    return now is null ? 1 : 0;
if (now is null)
    return 2;
using var hup = PosixSignalRegistration.Create(
    PosixSignal.SIGHUP,
    c =>
    {
        c.Cancel = true;
        now = Read(file) ?? now;
    }
);
using var listener = new TcpListener(IPEndPoint.Parse(now.Listen));
listener.Start();
File.WriteAllText(now.Process, Environment.ProcessId.ToString());
while (true)
    _ = ServeAsync(await listener.AcceptTcpClientAsync(), now.Certificate);

static async Task ServeAsync(TcpClient client, X509Certificate2? certificate)
{
    using var c = client;
    try
    {
        Stream stream = c.GetStream();
        if (certificate is not null)
        {
            var tls = new SslStream(stream);
            await tls.AuthenticateAsServerAsync(certificate);
            stream = tls;
        }
        using var reader = new StreamReader(stream);
        while (await reader.ReadLineAsync() is not null)
            await stream.WriteAsync("lit\r\n"u8.ToArray());
    }
    catch (Exception e) when (e is IOException or System.Security.Authentication.AuthenticationException) { }
}

static Settings? Read(string file)
{
    var values = new Dictionary<string, string>();
    foreach (var (line, number) in File.ReadLines(file).Select((l, i) => (l, i + 1)).Where(x => x.l.Length > 0 && !x.l.StartsWith('#')))
    {
        var words = line.Split(' ', 2);
        if (words.Length < 2 || words[0] is not ("listen" or "process" or "certificate" or "key" or "name"))
        {
            Console.Error.WriteLine($"{file}:{number}: {words[0]} is not known");
            return null;
        }
        values[words[0]] = words[1];
    }
    var certificate = values.TryGetValue("certificate", out var path) ? X509Certificate2.CreateFromPemFile(path, values["key"]) : null;
    return new(values["listen"], values["process"], certificate);
}

internal sealed record Settings(string Listen, string Process, X509Certificate2? Certificate);
