using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Bindings;

/// <summary>Something on a host that can serve a certificate, as its agent last described it.</summary>
public sealed class HostService
{
    public int Id { get; private init; }
    public int HostId { get; private init; }
    public string Name { get; private init; } = "";
    public string Connector { get; private set; } = "";
    public string NamesJson { get; private set; } = "[]";

    /// <summary>The configuration names none, so its agent assumed the host's.</summary>
    public bool NamesAreAssumed { get; private set; }
    public string EndpointsJson { get; private set; } = "[]";
    public string PlacesJson { get; private set; } = "[]";
    public string? CertificateFile { get; private set; }
    public string? ProblemJson { get; private set; }

    /// <summary>It can be used without TLS at one of its endpoints at least. For lists.</summary>
    public bool ClearText { get; private set; }

    /// <summary>Its agent has ended its use without TLS, and can allow it again.</summary>
    public bool RequiresTls { get; private set; }

    /// <summary>What it does for mail: a bit for each <see cref="MailUse"/>. For lists.</summary>
    public int MailUses { get; private set; }

    public void IsUsedFor(int mailUses) => MailUses = mailUses;

    /// <summary>Judged looks, worst first.</summary>
    public string LooksJson { get; private set; } = "[]";

    /// <summary>What its clients meet at worst, as a word of <see cref="Core.Paths.LookFault"/>; null when they accept it. For lists.</summary>
    public string? Fault { get; private set; }

    /// <summary>The serial and dates of what is served, for lists.</summary>
    public string? ServedSerial { get; private set; }
    public DateTimeOffset? ServedFrom { get; private set; }
    public DateTimeOffset? ServedUntil { get; private set; }

    /// <summary>The fingerprint of the anchor that the chain ends at, trusted here or not; null when none is known.</summary>
    public string? ChainEnd { get; private set; }

    /// <summary>When time alone opens or worsens a concern of it; null when it does not.</summary>
    public DateTimeOffset? JudgeAt { get; private set; }

    public void JudgeNextAt(DateTimeOffset? at) => JudgeAt = at;

    public static HostService Of(int hostId, string name) => new() { HostId = hostId, Name = name };

    public void Described(
        string connector,
        string namesJson,
        bool namesAreAssumed,
        string endpointsJson,
        string placesJson,
        string? certificateFile,
        string? problemJson
    ) =>
        (Connector, NamesJson, NamesAreAssumed, EndpointsJson, PlacesJson, CertificateFile, ProblemJson) = (
            connector,
            namesJson,
            namesAreAssumed,
            endpointsJson,
            placesJson,
            certificateFile,
            problemJson
        );

    /// <summary>The lowest version of TLS that its agent has set, as a word of <see cref="LowestTls"/>; null when it has set none.</summary>
    public string? Lowest { get; private set; }

    public void GoesInTheClear(bool clearText, bool requiresTls, LowestTls? lowest) =>
        (ClearText, RequiresTls, Lowest) = (
            clearText,
            requiresTls,
            lowest is { } l and not LowestTls.Unknown ? OpenWord<LowestTls>.WordOf(l) : null
        );

    /// <param name="fault">The worst that was met; null when clients accept it.</param>
    /// <param name="served">What was served; null when nothing was.</param>
    public void Looked(string looksJson, string? fault, LookInfo? served) =>
        (LooksJson, Fault, ServedSerial, ServedFrom, ServedUntil, ChainEnd) = (
            looksJson,
            fault,
            served?.Served?.Serial,
            served?.Served?.NotBefore,
            served?.Served?.NotAfter,
            served?.Anchor
        );
}

/// <summary>Which certificate a service shall serve, and what was last seen there.</summary>
public sealed class Binding
{
    public int Id { get; private init; }
    public int CertificateId { get; private init; }
    public int ServiceId { get; private init; }
    public int? Port { get; private init; }
    public BindingState State { get; private set; }
    public string? WantedSerial { get; private set; }
    public string? SeenSerial { get; private set; }
    public string? Message { get; private set; }
    public DateTimeOffset? SeenAt { get; private set; }

    public static Binding Plan(int certificateId, int serviceId, int? port) =>
        new()
        {
            CertificateId = certificateId,
            ServiceId = serviceId,
            Port = port,
            State = BindingState.Planned,
        };

    public void Want(string serial) => WantedSerial = serial;

    public void Took(string serial, DateTimeOffset at) =>
        (State, WantedSerial, SeenSerial, SeenAt, Message) = (BindingState.Serving, serial, serial, at, null);

    /// <summary>A look saw this serial; null when nothing was served.</summary>
    public void Saw(string? serial, DateTimeOffset at)
    {
        if (State == BindingState.Planned)
            return;
        (SeenSerial, SeenAt) = (serial, at);
        var served = serial == WantedSerial ? BindingState.Serving : BindingState.Behind;
        State = serial is null ? BindingState.Broken : served;
        Message = State switch
        {
            BindingState.Broken => "No certificate is served there now.",
            BindingState.Behind => "Another certificate than ours is served there now.",
            _ => null,
        };
    }

    /// <summary>
    /// Whether a look began before what was seen last: it says how things were. Both are the agent's clock; one that was set back is believed again after a while.
    /// </summary>
    public bool IsOld(DateTimeOffset look) => SeenAt is { } seen && look < seen && seen - look < LongestLook;

    private static readonly TimeSpan LongestLook = TimeSpan.FromMinutes(5);

    public void NoteFailure(string message) => Message = message;
}
