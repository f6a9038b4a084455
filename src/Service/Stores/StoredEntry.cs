using OrderlyBeacon.Contracts;

namespace OrderlyBeacon.Service.Stores;

/// <summary>A keyed entry of a host's store, as its agent reported it: a row, so that the fleet can be searched for a certificate, a key or an issuer.</summary>
public sealed class StoredEntry
{
    public long Id { get; private init; }
    public int HostId { get; private init; }
    public string Certificate { get; private init; } = "";
    public string Serial { get; private init; } = "";
    public string Thumbprint { get; private init; } = "";
    public string? Key { get; private init; }
    public string? Issuer { get; private init; }
    public DateTimeOffset NotAfter { get; private init; }
    public bool InUse { get; private init; }
    public string? Label { get; private init; }
    public bool Releasable { get; private init; }
    public bool Archived { get; private init; }

    public static StoredEntry Of(int hostId, StoreEntryInfo e) =>
        new()
        {
            HostId = hostId,
            Certificate = e.Certificate,
            Serial = e.Serial,
            Thumbprint = e.Thumbprint,
            Key = e.Key,
            Issuer = e.Issuer,
            NotAfter = e.NotAfter,
            InUse = e.Live,
            Label = e.Label,
            Releasable = e.Releasable,
            Archived = e.Archived,
        };

    /// <summary>Whether the agent says the same as before.</summary>
    public bool Is(StoreEntryInfo e) =>
        (Certificate, Serial, Thumbprint, Key, Issuer, NotAfter, InUse, Label, Releasable, Archived)
        == (e.Certificate, e.Serial, e.Thumbprint, e.Key, e.Issuer, e.NotAfter, e.Live, e.Label, e.Releasable, e.Archived);
}
