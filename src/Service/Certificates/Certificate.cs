using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Renewal;

namespace OrderlyBeacon.Service.Certificates;

/// <summary>The long-lived thing a service needs; its X.509 documents are its editions.</summary>
public sealed class Certificate
{
    public int Id { get; private init; }
    public string Name { get; private init; } = "";
    public int? HostId { get; private set; }
    public string Profile { get; private set; } = "";
    public string Subject { get; private set; } = "";
    public string NamesJson { get; private set; } = "[]";
    public string Key { get; private set; } = "";
    public string? Life { get; private set; }

    /// <summary>Whose it is: a person, <c>group:NAME</c>, <c>agent:HOST</c> or <c>system</c>.</summary>
    public string Owner { get; private set; } = "";

    /// <summary>Names that people approved, as <see cref="Core.Names.AlternativeName.ToString"/> writes them: they stay approved for renewals. The ledger alone writes them.</summary>
    public string ApprovedJson { get; private set; } = "[]";
    public double RenewAfter { get; private set; }
    public bool NewKey { get; private set; } = true;
    public bool Automatic { get; private set; } = true;
    public int Failures { get; private set; }
    public string? LastError { get; private set; }
    public DateTimeOffset? RetryAt { get; private set; }

    /// <summary>When the renewal loop has to look at it next; null while nothing is to be done.</summary>
    public DateTimeOffset? NextActionAt { get; private set; }
    public long Version { get; private set; } = 1;

    /// <summary>The authority that is not ours which signs it; null when ours does.</summary>
    public string? Outside { get; private set; }

    /// <summary>The profile of what was brought from elsewhere: nothing here may issue it anew.</summary>
    public const string Brought = "brought";

    public bool IsBrought => Profile == Brought;

    public void SignedBy(string? outside) => Outside = outside;

    /// <summary>Brought into a host's store from elsewhere: looked after, and renewed by nobody.</summary>
    public static Certificate OfImport(string name, int hostId, string owner, string subject, string namesJson, string key) =>
        new()
        {
            Name = name,
            HostId = hostId,
            Owner = owner,
            Profile = Brought,
            Subject = subject,
            NamesJson = namesJson,
            Key = key,
            RenewAfter = new RenewalPolicy().After,
            Automatic = false,
            HasEdition = true,
        };

    /// <summary>Its key turned out to be on a host: it was issued for a CSR.</summary>
    public void LiesOn(int hostId)
    {
        HostId = hostId;
        Version++;
    }

    public void HasOne() => HasEdition = true;

    /// <summary>When time alone opens or worsens a concern of it; null when it does not.</summary>
    public DateTimeOffset? JudgeAt { get; private set; }

    public void JudgeNextAt(DateTimeOffset? at) => JudgeAt = at;

    public RenewalPolicy Policy => new(RenewAfter, NewKey, Automatic);

    /// <summary>Whether it was ever issued.</summary>
    public bool HasEdition { get; private set; }

    /// <param name="owner">A person, <c>group:NAME</c>, or <c>agent:HOST</c>.</param>
    public static Certificate Of(string name, int? hostId, double? renewAfter, string owner) =>
        new()
        {
            Name = name,
            HostId = hostId,
            Owner = owner,
            RenewAfter = renewAfter ?? new RenewalPolicy().After,
            Automatic = hostId is not null,
        };

    /// <summary>Takes over what a granted request asks for.</summary>
    public void Wish(string profile, string subject, string namesJson, string key, string? life)
    {
        (Profile, Subject, NamesJson, Key, Life) = (profile, subject, namesJson, key, life);
        Version++;
    }

    public void GiveTo(string owner)
    {
        Owner = owner;
        Version++;
    }

    public void ChangePolicy(PolicyInfo p)
    {
        if (p.After is < 0.05 or > 0.95)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "A renewal can be planned after 0.05 to 0.95 of a certificate's life.",
                "Give a number in that range; 0.67 is usual."
            );
        if (!p.NewKey)
            throw new BeaconProblem(
                ProblemCode.InputInvalid,
                "A renewal with the same key is not offered: a key that was copied would stay good for years.",
                "Send newKey as true."
            );
        (RenewAfter, NewKey, Automatic) = (p.After, p.NewKey, p.Automatic);
        Version++;
    }

    /// <summary>An edition is in use: the next thing to do is its renewal.</summary>
    public void Settled(DateTimeOffset? planned)
    {
        (Failures, LastError, RetryAt) = (0, null, null);
        NextActionAt = Automatic ? planned : null;
    }

    public void Failed(string error, DateTimeOffset retryAt)
    {
        Failures++;
        (LastError, RetryAt, NextActionAt) = (error, retryAt, retryAt);
    }

    /// <summary>A server could not be put back: nothing is tried until somebody has looked and orders it again.</summary>
    public void Stuck(string error)
    {
        Failures++;
        (LastError, RetryAt, NextActionAt) = (error, null, null);
    }

    /// <summary>Whether the last try ended with a server that is not as it was.</summary>
    public bool IsStuck => Failures > 0 && LastError is not null && RetryAt is null;

    /// <summary>Work is under way: nothing to do until it is reported.</summary>
    public void Waiting() => NextActionAt = null;

    public void ActAt(DateTimeOffset at) => NextActionAt = at;
}

/// <summary>One X.509 certificate issued for it. Its DER never changes.</summary>
public sealed class Edition
{
    public long Id { get; private init; }
    public int CertificateId { get; private init; }
    public int GenerationId { get; private init; }
    public long? RequestId { get; private init; }
    public string Serial { get; private init; } = "";
    public string Thumbprint { get; private init; } = "";
    public string KeyFingerprint { get; private init; } = "";
    public string Profile { get; private init; } = "";
    public int ProfileRevision { get; private init; }
    public byte[] Der { get; private init; } = [];

    /// <summary>What it was issued on: names with reasons and people, as the ledger wrote it.</summary>
    public string? DecisionJson { get; private init; }
    public DateTimeOffset IssuedAt { get; private init; }
    public DateTimeOffset NotBefore { get; private init; }
    public DateTimeOffset NotAfter { get; private init; }
    public EditionState State { get; private set; }
    public DateTimeOffset? RevokedAt { get; private set; }
    public int? RevocationReason { get; private set; }

    /// <summary>When it was last revoked, held or released: what a delta CRL goes by.</summary>
    public DateTimeOffset? RevocationChangedAt { get; private set; }

    /// <summary>When it is due to be written to its computer's object in the directory; null when nothing is.</summary>
    public DateTimeOffset? PublishAt { get; private set; }

    public void PublishNext(DateTimeOffset? at) => PublishAt = at;

    /// <summary>No generation of ours: an authority that is not ours issued it.</summary>
    public const int NoGeneration = 0;

    public bool IsOurs => GenerationId != NoGeneration;

    /// <summary>Issued elsewhere, and on record here.</summary>
    public static Edition FromElsewhere(
        int certificateId,
        long? requestId,
        Core.Issuing.X509 x,
        string decisionJson,
        EditionState state,
        DateTimeOffset at
    ) =>
        new()
        {
            CertificateId = certificateId,
            GenerationId = NoGeneration,
            RequestId = requestId,
            Serial = x.Serial.Hex,
            Thumbprint = x.Thumbprint.Hex,
            KeyFingerprint = x.PublicKey.Fingerprint(),
            Profile = Certificate.Brought,
            Der = x.Der.ToArray(),
            DecisionJson = decisionJson,
            IssuedAt = at,
            NotBefore = x.NotBefore,
            NotAfter = x.NotAfter,
            State = state,
        };

    public bool IsHeld => RevocationReason == (int)Core.Revocation.RevocationReason.CertificateHold;

    public void Promote() => State = EditionState.Current;

    public void Supersede() => State = EditionState.Previous;

    public void Revoke(DateTimeOffset at, Core.Revocation.RevocationReason reason)
    {
        // What is on hold may be revoked for good; its date stays that of the hold.
        if (RevokedAt is not null && (!IsHeld || reason == Core.Revocation.RevocationReason.CertificateHold))
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"The edition {Serial} was revoked already, on {RevokedAt:yyyy-MM-dd HH:mm} UTC.",
                "Nothing to do."
            );
        (RevokedAt, RevocationReason, RevocationChangedAt) = (RevokedAt ?? at, (int)reason, at);
    }

    /// <summary>Ends a hold: the edition is good again (RFC 5280 section 5.3.1).</summary>
    public void Release(DateTimeOffset at)
    {
        if (!IsHeld)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                RevokedAt is null
                    ? $"The edition {Serial} is not on hold."
                    : $"The edition {Serial} was revoked for good, on {RevokedAt:yyyy-MM-dd HH:mm} UTC.",
                RevokedAt is null ? "Nothing to do." : "Renew the certificate: a revocation other than a hold cannot be taken back."
            );
        (RevokedAt, RevocationReason, RevocationChangedAt) = (null, null, at);
    }
}
