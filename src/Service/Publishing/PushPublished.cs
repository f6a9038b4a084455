using System.Security.Cryptography;
using OrderlyBeacon.Core;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Revocations;

namespace OrderlyBeacon.Service.Publishing;

/// <summary>Something that is published, as it goes to further points.</summary>
/// <param name="Name">As in the service's own addresses, as <c>issuing-2.crl</c>.</param>
/// <param name="Authority">The authority's name, for directories.</param>
public sealed record PublishedFile(string Name, PublishedKind Kind, string Authority, byte[] Bytes);

public enum PublishedKind
{
    Certificate,
    Crl,
    DeltaCrl,
}

/// <summary>A further place where clients find what is published.</summary>
internal interface IPushTarget
{
    /// <summary>As people read it, without secrets.</summary>
    string Name { get; }

    /// <summary>Puts all there, each at once, and reads each back: what comes must be what went.</summary>
    /// <exception cref="BeaconProblem">When something could not be put there, or came back otherwise.</exception>
    Task PushAsync(IReadOnlyList<PublishedFile> files, CancellationToken ct);
}

/// <summary>How a target stands.</summary>
public sealed record PushState(string Target, bool Good, string Told, DateTimeOffset At, int Files);

/// <summary>Brings certificates and lists to the further points of the setting Pushes, when something changed, once an hour in any case, and again soon after a failure.</summary>
public sealed class PushPublished(
    BeaconOptions options,
    AuthorityRegistry registry,
    CrlShelf shelf,
    Changes changes,
    TimeProvider clock,
    ILogger<PushPublished> log
)
{
    private static readonly TimeSpan Again = TimeSpan.FromSeconds(20),
        Anyway = TimeSpan.FromHours(1),
        Patience = TimeSpan.FromSeconds(30);

    private readonly Lazy<List<IPushTarget>> _targets = new(() =>
        [.. options.Pushes.Split(';', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries).Select(Read)]
    );
    private readonly Dictionary<string, (PushState State, string Fingerprint)> _states = [];
    private readonly Lock _lock = new();

    /// <summary>Reads the setting, so that a wrong one is told at the start.</summary>
    public void Check() => _ = _targets.Value;

    public IReadOnlyList<PushState> States
    {
        get
        {
            lock (_lock)
                return [.. _states.Values.Select(s => s.State)];
        }
    }

    public async Task RunAsync(CancellationToken ct)
    {
        if (options.Pushes.Length == 0 || !registry.IsReady)
            return;
        var files = Files();
        var fingerprint = Convert.ToHexStringLower(SHA256.HashData([.. files.SelectMany(f => SHA256.HashData(f.Bytes))]));
        foreach (var target in _targets.Value)
        {
            var now = clock.GetUtcNow();
            (PushState State, string Fingerprint) last;
            lock (_lock)
                last = _states.GetValueOrDefault(target.Name);
            if (last.State is { } s && (s.Good ? last.Fingerprint == fingerprint && now < s.At + Anyway : now < s.At + Again))
                continue;
            var state = new PushState(target.Name, true, $"{files.Count} files are there as published.", now, files.Count);
            try
            {
                using var limit = CancellationTokenSource.CreateLinkedTokenSource(ct);
                limit.CancelAfter(Patience);
                // Some targets' libraries do not look at the token: nobody waits for those longer either.
                await Task.Run(() => target.PushAsync(files, limit.Token), limit.Token).WaitAsync(limit.Token);
            }
            catch (BeaconProblem p)
            {
                state = new(target.Name, false, $"{p.Message} {p.Cure}", now, 0);
            }
            catch (OperationCanceledException) when (!ct.IsCancellationRequested)
            {
                state = new(target.Name, false, "It did not answer in time. Look at that server; it is tried again.", now, 0);
            }
            lock (_lock)
                _states[target.Name] = (state, fingerprint);
            if (last.State?.Good == state.Good && last.State.Told == state.Told)
                continue;
            if (state.Good)
                log.LogInformation("Pushed to {Target}: {Told}", target.Name, state.Told);
            else
                log.LogWarning("Could not push to {Target}: {Told}", target.Name, state.Told);
            changes.Tell("authority", "health");
        }
    }

    private List<PublishedFile> Files()
    {
        var files = new List<PublishedFile>();
        foreach (var a in registry.Authorities)
        foreach (var key in a.Certified.Select(g => g.KeyNumber).Distinct())
        {
            var file = Authority.FileOf(a.Slug, key);
            if (registry.File(file) is { } x)
                files.Add(new(file + ".cer", PublishedKind.Certificate, a.Name, x.Der.ToArray()));
            if (shelf.Get(file)?.Row.Der is { } full)
                files.Add(new(file + ".crl", PublishedKind.Crl, a.Name, full));
            if (shelf.Get(CrlShelf.DeltaName(file))?.Row.Der is { } delta)
                files.Add(new(CrlShelf.DeltaName(file) + ".crl", PublishedKind.DeltaCrl, a.Name, delta));
        }
        return files;
    }

    private static IPushTarget Read(string text)
    {
        var i = text.IndexOf(':');
        return (i < 0 ? "" : text[..i]) switch
        {
            "folder" => new FolderTarget(text[(i + 1)..]),
            "sftp" => new SftpTarget(Address(text)),
            "ldap" or "ldaps" => new DirectoryTarget(Address(text)),
            _ => throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"BEACON_PUSHES has \"{text}\".",
                "Write folder:/PATH, sftp://USER@HOST/PATH?key=FILE&host-key=SHA256:…, or ldap://HOST/BASE?bind=DN&password-file=FILE; separate several by semicolons."
            ),
        };
    }

    private static Uri Address(string text) =>
        Uri.TryCreate(text, UriKind.Absolute, out var u) && u.Host.Length > 0
            ? u
            : throw new BeaconProblem(
                ProblemCode.InputInvalid,
                $"BEACON_PUSHES has \"{text}\", which is no address.",
                "Write it as SCHEME://HOST/PATH."
            );

    internal static string Query(Uri address, string name) =>
        address
            .Query.TrimStart('?')
            .Split('&')
            .Select(p => p.Split('=', 2))
            .Where(p => p[0] == name && p.Length == 2)
            .Select(p => Uri.UnescapeDataString(p[1]))
            .FirstOrDefault()
        ?? "";

    internal static void Compare(PublishedFile file, ReadOnlySpan<byte> there, string where)
    {
        if (!there.SequenceEqual(file.Bytes))
            throw new BeaconProblem(
                ProblemCode.Unreachable,
                $"{file.Name} at {where} came back otherwise than it went there ({there.Length} bytes instead of {file.Bytes.Length}).",
                "See who else writes there; it is tried again."
            );
    }
}
