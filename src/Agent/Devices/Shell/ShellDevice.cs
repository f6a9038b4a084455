using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;
using OrderlyBeacon.Core.Issuing;

namespace OrderlyBeacon.Agent.Devices.Shell;

/// <summary>
/// A device with a shell, reached over SSH. Its key is made there with its own openssl, else here; files are built whole beside the old ones, which stay with their date; the
/// device's own script puts everything back at once when a step fails, and remembers how while it is not confirmed.
/// </summary>
internal sealed class ShellDevice(DeviceKind kind, SshDoor door, DeviceAccess access, TimeProvider clock) : IDevice
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(30),
        RestartPatience = TimeSpan.FromMinutes(3);
    private const int MostTold = 400;
    private readonly DeviceScripts _scripts = new(kind);

    private CertificateStore Own => new(Path.Combine(door.Folder, "store"));

    public async Task<string> GreetAsync(CancellationToken ct)
    {
        // Nothing is sent before: the host key must be the one that a person has compared.
        var compared = await ComparedAsync(ct);
        var said = await door.PinAsync(compared, () => DoAsync(_scripts.Greet(), Patience, ct));
        string? Of(string word) => said.FirstOrDefault(l => l.StartsWith(word + " ", StringComparison.Ordinal))?[(word.Length + 1)..];
        var maker =
            kind.Key == KeyMaker.OnDevice && Of("maker") is { } openssl
                ? $"it makes its keys itself ({openssl})"
                : "this agent makes its keys";
        return $"{door.Where} answers: {kind.Title}, {Of("system")}, as {Of("account")}; {maker}";
    }

    private async Task<HostKey> ComparedAsync(CancellationToken ct)
    {
        var shown = await door.ScanAsync(ct);
        var line = $"restrict {await door.PublicKeyAsync(ct)}";
        if (shown.FirstOrDefault(k => k.Fingerprint == access.Fingerprint) is { } compared)
            return compared;
        var shows = string.Join(", ", shown.Select(k => $"{k.Fingerprint} ({k.Type})"));
        throw new BeaconProblem(
            ProblemCode.WrongFile,
            access.Fingerprint is null
                ? $"{door.Where} shows these host keys: {shows}. Nothing was sent to it."
                : $"{door.Where} shows other host keys than {access.Fingerprint}: {shows}. Nothing was sent to it.",
            $"Compare one at the device itself (ssh-keygen -l -f /etc/ssh/ssh_host_ed25519_key.pub) and give it: --fingerprint SHA256:…. This agent comes in with a key of its own; put this line into authorized_keys there: {line}"
        );
    }

    public async Task<string> RequestAsync(DeviceRequest request, CancellationToken ct)
    {
        var said = await DoAsync(_scripts.Request(request), Patience, ct);
        if (said is ["none"])
        {
            var csr = Own.Prepare(request.Order, request.Subject, request.Names, request.Key);
            said = await DoAsync(_scripts.KeepRequest(request, csr), Patience, ct);
        }
        return string.Join('\n', said) + "\n";
    }

    public async Task InstallAsync(DeviceRequest request, string chain, string root, Action<string> step, CancellationToken ct)
    {
        var blocks = Armor.Read(System.Text.Encoding.ASCII.GetBytes(chain)).Blocks.Select(b => Armor.Write(b.Label, b.Der)).ToList();
        var parts = new Dictionary<DevicePart, string>
        {
            [DevicePart.Leaf] = blocks[0],
            [DevicePart.Intermediates] = string.Concat(blocks.Skip(1)),
            [DevicePart.Root] = root,
        };
        if (Own.PreparedKey(request.Order) is { } key)
            parts[DevicePart.Key] = key;
        step($"the device gets {string.Join(", ", kind.Files.Select(f => f.Path))}; what is there is kept beside with its date");
        var said = await DoAsync(_scripts.Install(request, parts, clock.GetUtcNow()), RestartPatience, ct);
        step(said.Contains("same") ? "the device has it already" : $"the device has taken it up: {kind.Restart}");
    }

    public Task<DeviceFront?> FrontAsync(CancellationToken ct) =>
        Task.FromResult<DeviceFront?>(new(door.Host, access.Port ?? kind.Port, kind.Protocol));

    public async Task ConfirmAsync(DeviceRequest request, CancellationToken ct)
    {
        await DoAsync(_scripts.Confirm(request), Patience, ct);
        Own.ForgetPrepared();
    }

    public async Task<bool> TakeBackAsync(DeviceRequest request, CancellationToken ct)
    {
        await DoAsync(_scripts.TakeBack(request), RestartPatience, ct);
        Own.ForgetPrepared();
        return true;
    }

    private async Task<IReadOnlyList<string>> DoAsync(DeviceScript script, TimeSpan patience, CancellationToken ct)
    {
        var answer = await door.RunAsync(kind.Shell, script.Text, patience, ct);
        if (script.Said(answer) is not var (lines, code))
            throw new BeaconProblem(
                ProblemCode.HostAway,
                $"{door.Where} broke off in the middle: {Last(answer)}.",
                "It is looked after when this is done again: what was half done there is put back first."
            );
        var (stuck, failed) = (Told(lines, "stuck "), Told(lines, "failed "));
        if (stuck is not null)
            throw new BeaconProblem(
                ProblemCode.SwapStuck,
                $"{failed ?? "The device could not be put back"}; {stuck}.",
                $"Look at {door.Host} itself: what was there before lies beside each file with its date."
            );
        if (failed is not null)
            throw new BeaconProblem(
                ProblemCode.SwapUndone,
                $"On {door.Host}: {failed.TrimEnd('.')}. It runs with what it had.",
                "Correct it there; then repeat."
            );
        if (lines.Contains("busy"))
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"Another change is going on at {door.Host}.",
                "Wait until it has ended; then repeat."
            );
        return code == 0
            ? lines
            : throw new BeaconProblem(
                ProblemCode.AnswerRefused,
                $"The shell of {door.Host} ended with {code}.",
                "Look what its shell is, and whether it runs sh."
            );
    }

    /// <summary>What it says with a word in front: as much as a person reads.</summary>
    private static string? Told(IReadOnlyList<string> lines, string word) =>
        lines.FirstOrDefault(l => l.StartsWith(word, StringComparison.Ordinal))?[word.Length..] is { } said
            ? said[..Math.Min(said.Length, MostTold)]
            : null;

    private static string Last(string answer) =>
        answer.Split('\n', StringSplitOptions.RemoveEmptyEntries).LastOrDefault() is { } line
            ? line[..Math.Min(line.Length, MostTold)].Trim()
            : "it says nothing";

    public void Dispose() { }
}
