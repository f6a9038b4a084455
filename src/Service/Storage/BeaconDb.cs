using System.Data.Common;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Diagnostics;
using Microsoft.EntityFrameworkCore.Storage;
using Microsoft.EntityFrameworkCore.Storage.ValueConversion;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Anchors;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Concerns;
using OrderlyBeacon.Service.Federation;
using OrderlyBeacon.Service.Journal;
using OrderlyBeacon.Service.Keeping;
using OrderlyBeacon.Service.Outside;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Records;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Stores;
using OrderlyBeacon.Service.Sweeps;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service.Storage;

/// <summary>
/// The database. To change something: <see cref="BeginWriteAsync"/>, change entities through their methods, <see cref="Note"/> what was done,
/// <see cref="WriteScope.CommitAsync"/>. Reads need no ceremony.
/// </summary>
public sealed class BeaconDb(DbContextOptions<BeaconDb> options, WriteGate gate, ConcernKeeper concerns) : DbContext(options)
{
    public DbSet<Authority> Authorities => Set<Authority>();
    public DbSet<Generation> Generations => Set<Generation>();
    public DbSet<Restore> Restores => Set<Restore>();
    public DbSet<ParentRequest> ParentRequests => Set<ParentRequest>();
    public DbSet<PublishedCrl> Crls => Set<PublishedCrl>();
    public DbSet<ProfileRow> Profiles => Set<ProfileRow>();
    public DbSet<ProfileRevision> ProfileRevisions => Set<ProfileRevision>();
    public DbSet<Person> People => Set<Person>();
    public DbSet<SessionToken> Sessions => Set<SessionToken>();
    public DbSet<Hosts.Host> Hosts => Set<Hosts.Host>();
    public DbSet<HostService> Services => Set<HostService>();
    public DbSet<Binding> Bindings => Set<Binding>();
    public DbSet<Certificate> Certificates => Set<Certificate>();
    public DbSet<Edition> Editions => Set<Edition>();
    public DbSet<Request> Requests => Set<Request>();
    public DbSet<KeyRollover> Rollovers => Set<KeyRollover>();
    public DbSet<WorkOrder> Orders => Set<WorkOrder>();
    public DbSet<JournalEntry> Journal => Set<JournalEntry>();
    public DbSet<AnsweredPost> AnsweredPosts => Set<AnsweredPost>();
    public DbSet<BurntKey> BurntKeys => Set<BurntKey>();
    public DbSet<Consent> Consents => Set<Consent>();
    public DbSet<OpenConcern> Concerns => Set<OpenConcern>();
    public DbSet<TrustStore> TrustStores => Set<TrustStore>();
    public DbSet<KnownAnchor> KnownAnchors => Set<KnownAnchor>();
    public DbSet<AnchorSet> AnchorSets => Set<AnchorSet>();
    public DbSet<AnchorSetMember> AnchorSetMembers => Set<AnchorSetMember>();
    public DbSet<StoreMark> StoreMarks => Set<StoreMark>();
    public DbSet<Provider> Providers => Set<Provider>();
    public DbSet<Partner> Partners => Set<Partner>();
    public DbSet<Sweep> Sweeps => Set<Sweep>();
    public DbSet<SweepFinding> SweepFindings => Set<SweepFinding>();
    public DbSet<StoredEntry> StoredEntries => Set<StoredEntry>();
    public DbSet<OutsideAuthority> Outside => Set<OutsideAuthority>();
    public DbSet<CertificateName> CertificateNames => Set<CertificateName>();
    public DbSet<ServiceName> ServiceNames => Set<ServiceName>();

    /// <summary>Takes the write lock and opens a transaction; disposing without commit undoes everything.</summary>
    public async Task<WriteScope> BeginWriteAsync(CancellationToken ct = default)
    {
        await gate.EnterAsync(ct);
        (_last, _touched) = (null, new());
        try
        {
            return new(this, await Database.BeginTransactionAsync(ct), gate);
        }
        catch
        {
            gate.Leave();
            throw;
        }
    }

    /// <summary>What the open transaction touched; null outside of one.</summary>
    private Touched? _touched;

    /// <summary>Only time has changed these: the open transaction judges them anew.</summary>
    internal void JudgeAgain(
        IEnumerable<int> certificates,
        IEnumerable<int> services,
        IEnumerable<int> hosts,
        IEnumerable<long> requests
    ) => _touched!.Add(certificates, services, hosts, requests);

    public override async Task<int> SaveChangesAsync(bool acceptAllChangesOnSuccess, CancellationToken cancellationToken = default)
    {
        _touched?.Before(ChangeTracker);
        var written = await base.SaveChangesAsync(acceptAllChangesOnSuccess, cancellationToken);
        _touched?.After();
        return written;
    }

    /// <summary>Saves what is left, and lets concerns follow, in the same transaction.</summary>
    internal async Task FinishAsync(CancellationToken ct)
    {
        await SaveChangesAsync(ct);
        if (_touched is not { IsEmpty: false } touched)
            return;
        _touched = null;
        await concerns.JudgeAsync(this, touched, ct);
        await SaveChangesAsync(ct);
    }

    /// <summary>Adds a journal entry to the open transaction.</summary>
    public async Task Note(DateTimeOffset at, Actor actor, JournalAction action, string subject, string detail = "")
    {
        _last ??= await Journal.AsNoTracking().OrderByDescending(e => e.Sequence).FirstOrDefaultAsync();
        _last = JournalEntry.Of(JournalChain.Append(_last?.Record, at, actor.ToString(), action.Word(), subject, detail));
        Journal.Add(_last);
    }

    /// <summary>The journal's last entry as long as this context's transaction is open: nobody else can add one meanwhile.</summary>
    private JournalEntry? _last;

    protected override void OnModelCreating(ModelBuilder b)
    {
        b.Entity<Authority>(e =>
        {
            e.Ignore(x => x.InUse);
            e.Ignore(x => x.Coming);
            e.Ignore(x => x.Certified);
            e.HasIndex(x => x.Slug).IsUnique();
            e.HasMany(x => x.Generations).WithOne().HasForeignKey(g => g.AuthorityId);
            e.HasMany(x => x.Crosses).WithOne().HasForeignKey(c => c.AuthorityId);
        });
        b.Entity<Generation>(e => e.Property(x => x.KeyNumber).HasDefaultValue(1).ValueGeneratedNever());
        b.Entity<PublishedCrl>(e =>
        {
            e.Property(x => x.KeyNumber).HasDefaultValue(1).ValueGeneratedNever();
            e.HasIndex(x => new
                {
                    x.AuthorityId,
                    x.KeyNumber,
                    x.Number,
                    x.IsDelta,
                })
                .IsUnique();
        });
        b.Entity<ProfileRow>(e => e.HasKey(x => x.Name));
        b.Entity<ProfileRevision>(e => e.HasKey(x => new { x.Name, x.Revision }));
        b.Entity<Person>(e => e.HasIndex(x => x.Name).IsUnique());
        b.Entity<SessionToken>(e => e.HasKey(x => x.Hash));
        b.Entity<Hosts.Host>(e =>
        {
            e.HasIndex(x => x.Name).IsUnique();
            e.HasIndex(x => x.AgentThumbprint).IsUnique();
            e.HasIndex(x => x.AgentNextThumbprint).IsUnique();
            e.Property(x => x.Owner).HasDefaultValue("group:administrators").ValueGeneratedNever();
            e.Property(x => x.MetJson).HasDefaultValue("{}").ValueGeneratedNever();
            e.Property(x => x.AuthoritiesJson).HasDefaultValue("[]").ValueGeneratedNever();
        });
        b.Entity<BurntKey>(e => e.HasKey(x => x.Fingerprint));
        b.Entity<Consent>(e => e.HasIndex(x => x.Hash));
        b.Entity<HostService>(e =>
        {
            e.HasIndex(x => new { x.HostId, x.Name }).IsUnique();
            e.HasIndex(x => x.ServedUntil);
            e.HasIndex(x => x.Fault);
            e.HasIndex(x => x.ServedSerial);
            e.HasIndex(x => x.JudgeAt);
            e.HasIndex(x => x.ClearText);
            e.HasIndex(x => x.MailUses);
            e.HasIndex(x => x.ChainEnd);
        });
        b.Entity<TrustStore>(e =>
        {
            e.HasIndex(x => x.HostId);
            e.HasIndex(x => x.SetId);
            e.HasIndex(x => x.Digest);
        });
        b.Entity<KnownAnchor>(e =>
        {
            e.HasIndex(x => x.Thumbprint).IsUnique();
            e.HasIndex(x => x.Subject);
            e.HasIndex(x => x.NotAfter);
        });
        b.Entity<AnchorSet>().HasIndex(x => x.Digest).IsUnique();
        b.Entity<AnchorSetMember>(e =>
        {
            e.HasKey(x => new { x.SetId, x.AnchorId });
            e.HasIndex(x => x.AnchorId);
        });
        b.Entity<StoreMark>(e =>
        {
            e.HasKey(x => new { x.StoreId, x.Thumbprint });
            e.HasIndex(x => new { x.Thumbprint, x.Mark });
        });
        b.Entity<Provider>(e =>
        {
            e.Ignore(x => x.Signs);
            e.Ignore(x => x.Also);
            e.Ignore(x => x.Strangers);
            e.HasIndex(x => new
                {
                    x.HostId,
                    x.Instance,
                    x.Entity,
                })
                .IsUnique();
            e.HasIndex(x => x.CertificateId);
            e.HasIndex(x => x.Step);
            e.HasIndex(x => x.IsFailed);
            e.HasIndex(x => x.SignsUntil);
        });
        b.Entity<Partner>(e =>
        {
            e.Ignore(x => x.Addresses);
            e.Ignore(x => x.Info);
            e.HasIndex(x => new { x.ProviderId, x.Entity }).IsUnique();
        });
        b.Entity<Sweep>().HasIndex(x => x.State);
        b.Entity<SweepFinding>(e =>
        {
            e.HasIndex(x => new { x.SweepId, x.Id });
            e.HasIndex(x => new { x.SweepId, x.NotAfter });
            e.HasIndex(x => new { x.SweepId, x.Issuer });
        });
        b.Entity<StoredEntry>(e =>
        {
            e.HasIndex(x => new { x.HostId, x.Id });
            e.HasIndex(x => x.Certificate);
            e.HasIndex(x => x.Serial);
            e.HasIndex(x => x.Thumbprint);
            e.HasIndex(x => x.Key);
            e.HasIndex(x => x.Issuer);
            e.HasIndex(x => x.NotAfter);
        });
        b.Entity<Binding>(e =>
        {
            e.HasIndex(x => x.ServiceId).IsUnique();
            e.HasIndex(x => x.CertificateId);
            e.HasIndex(x => x.State);
        });
        b.Entity<Certificate>(e =>
        {
            e.HasIndex(x => x.Name).IsUnique();
            e.HasIndex(x => x.NextActionAt);
            e.HasIndex(x => x.Failures);
            e.HasIndex(x => x.HasEdition);
            e.HasIndex(x => x.Owner);
            e.HasIndex(x => x.JudgeAt);
            e.Property(x => x.Version).IsConcurrencyToken();
        });
        b.Entity<Edition>(e =>
        {
            e.HasIndex(x => x.Serial).IsUnique();
            e.HasIndex(x => x.RequestId).IsUnique();
            // One that begins with the state would be taken for a certificate's current edition, too, and all current ones be read.
            e.HasIndex(x => new
            {
                x.CertificateId,
                x.State,
                x.NotAfter,
            });
            e.HasIndex(x => x.KeyFingerprint);
            e.HasIndex(x => x.Thumbprint);
            e.HasIndex(x => x.RevokedAt);
            e.HasIndex(x => x.RevocationChangedAt);
            e.HasIndex(x => x.PublishAt);
            e.HasIndex(x => x.NotAfter);
            // Covers what is counted and sorted of those in use.
            e.HasIndex(x => new
            {
                x.State,
                x.NotAfter,
                x.Profile,
                x.CertificateId,
            });
        });
        b.Entity<Request>(e =>
        {
            e.Ignore(x => x.Approvals);
            e.Ignore(x => x.Amendments);
            e.HasIndex(x => x.State);
            e.HasIndex(x => x.CertificateId);
            e.HasIndex(x => new { x.CertificateName, x.State });
            e.HasIndex(x => x.AnswerKey);
            e.Property(x => x.Version).IsConcurrencyToken();
        });
        b.Entity<KeyRollover>(e =>
        {
            e.Ignore(x => x.Owners);
            e.Ignore(x => x.Info);
            e.HasIndex(x => new { x.CertificateId, x.Step });
            e.HasIndex(x => x.Step);
        });
        b.Entity<WorkOrder>(e =>
        {
            e.HasIndex(x => new { x.HostId, x.State });
            e.HasIndex(x => x.CertificateId);
        });
        b.Entity<JournalEntry>(e =>
        {
            e.HasKey(x => x.Sequence);
            e.Property(x => x.Sequence).ValueGeneratedNever();
        });
        b.Entity<OutsideAuthority>(e =>
        {
            e.Ignore(x => x.Anchors);
            e.Ignore(x => x.Intermediates);
            e.Ignore(x => x.FetchFrom);
            e.HasIndex(x => x.Name).IsUnique();
        });
        b.Entity<AnsweredPost>(e => e.HasKey(x => x.Key));
        b.Entity<CertificateName>(e =>
        {
            e.HasKey(x => new { x.CertificateId, x.Name });
            e.HasIndex(x => x.Name);
        });
        b.Entity<ServiceName>(e =>
        {
            e.HasKey(x => new { x.ServiceId, x.Name });
            e.HasIndex(x => x.Name);
        });
        b.Entity<OpenConcern>(e =>
        {
            // One row of a cause and a subject; what is counted and shown is covered.
            e.HasIndex(x => new
                {
                    x.Of,
                    x.SubjectId,
                    x.Kind,
                    x.About,
                })
                .IsUnique();
            e.HasIndex(x => new
            {
                x.Of,
                x.Kind,
                x.Severity,
                x.About,
                x.SubjectId,
            });
        });
    }

    // SQLite compares texts; times are kept as milliseconds so that they sort.
    protected override void ConfigureConventions(ModelConfigurationBuilder c)
    {
        c.Properties<DateTimeOffset>().HaveConversion<Milliseconds>();
        Words<ConcernSubject>(c);
        Words<ConcernKind>(c);
        Words<RolloverStep>(c);
        Words<HostState>(c);
        Words<RequestState>(c);
        Words<EditionState>(c);
        Words<OrderKind>(c);
        Words<OrderState>(c);
        Words<BindingState>(c);
        Words<SweepState>(c);
        Words<FederationStep>(c);
        Words<ProbeProtocol>(c);
        Words<TrustKind>(c);
        Words<TrustMark>(c);
    }

    private static void Words<T>(ModelConfigurationBuilder c)
        where T : struct, Enum => c.Properties<T>().HaveConversion<Word<T>>();

    /// <summary>Kept as the word that travels, whatever number a member has; one of a newer program is read as unknown.</summary>
    internal sealed class Word<T>() : ValueConverter<T, string>(v => OpenWord<T>.WordOf(v), w => OpenWord<T>.Of(w))
        where T : struct, Enum;

    internal sealed class Milliseconds()
        : ValueConverter<DateTimeOffset, long>(t => t.ToUnixTimeMilliseconds(), ms => DateTimeOffset.FromUnixTimeMilliseconds(ms));
}

/// <summary>One writer at a time inside this process; SQLite would make the others wait in coarse steps.</summary>
public sealed class WriteGate
{
    private long _writes;

    /// <summary>Rises with each write: who has seen this number knows that nothing was written since.</summary>
    public long Writes => Interlocked.Read(ref _writes);

    /// <summary>Something is on the disk: said before anybody is told of it.</summary>
    public void Written() => Interlocked.Increment(ref _writes);

    private readonly SemaphoreSlim _one = new(1, 1);

    public Task EnterAsync(CancellationToken ct = default) => _one.WaitAsync(ct);

    public void Leave() => _one.Release();
}

/// <summary>An open write.</summary>
public sealed class WriteScope(BeaconDb db, IDbContextTransaction transaction, WriteGate gate) : IAsyncDisposable
{
    public async Task CommitAsync(CancellationToken ct = default)
    {
        await db.FinishAsync(ct);
        await transaction.CommitAsync(ct);
        gate.Written();
    }

    public async ValueTask DisposeAsync()
    {
        try
        {
            await transaction.DisposeAsync();
        }
        finally
        {
            gate.Leave();
        }
    }
}

/// <summary>Every connection writes through to the disk before a commit returns.</summary>
internal sealed class SqliteSettings : DbConnectionInterceptor
{
    public const string Pragmas = "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA busy_timeout=10000; PRAGMA foreign_keys=ON;";

    public override void ConnectionOpened(DbConnection connection, ConnectionEndEventData eventData) => Apply(connection);

    public override Task ConnectionOpenedAsync(
        DbConnection connection,
        ConnectionEndEventData eventData,
        CancellationToken cancellationToken = default
    )
    {
        Apply(connection);
        return Task.CompletedTask;
    }

    private static void Apply(DbConnection connection)
    {
        using var c = connection.CreateCommand();
        c.CommandText = Pragmas;
        c.ExecuteNonQuery();
    }
}
