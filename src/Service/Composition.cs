using System.Runtime.CompilerServices;
using System.Security.Cryptography;
using System.Text.Json.Serialization;
using Microsoft.AspNetCore.Authentication;
using Microsoft.EntityFrameworkCore;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Anchors;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.Bindings;
using OrderlyBeacon.Service.Certificates;
using OrderlyBeacon.Service.Concerns;
using OrderlyBeacon.Service.Domain;
using OrderlyBeacon.Service.Enrolment;
using OrderlyBeacon.Service.Federation;
using OrderlyBeacon.Service.Health;
using OrderlyBeacon.Service.Hosts;
using OrderlyBeacon.Service.Journal;
using OrderlyBeacon.Service.Keeping;
using OrderlyBeacon.Service.Notices;
using OrderlyBeacon.Service.Outside;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Protocols.Est;
using OrderlyBeacon.Service.Protocols.Ocsp;
using OrderlyBeacon.Service.Protocols.Publication;
using OrderlyBeacon.Service.Publishing;
using OrderlyBeacon.Service.Records;
using OrderlyBeacon.Service.Renewals;
using OrderlyBeacon.Service.Requests;
using OrderlyBeacon.Service.Revocations;
using OrderlyBeacon.Service.Rights;
using OrderlyBeacon.Service.Storage;
using OrderlyBeacon.Service.Stores;
using OrderlyBeacon.Service.Sweeps;
using OrderlyBeacon.Service.Trust;
using OrderlyBeacon.Service.Work;

namespace OrderlyBeacon.Service;

/// <summary>How the service is put together, in one place.</summary>
internal static class Composition
{
    public static void AddBeacon(this IServiceCollection s, BeaconOptions options, bool hosted)
    {
        AddKept(s, options);
        foreach (var scoped in Scoped)
            s.AddScoped(scoped);
        if (hosted)
        {
            s.AddHostedService(p => p.GetRequiredService<EditionLedger>());
            s.AddHostedService<Caretaker>();
            s.AddHostedService<Errands>();
        }

        AddWeb(s, options);
        // The document is written by the build and served as it is: describing itself anew would cost a running service memory.
        if (!hosted)
            Describe(s);
    }

    /// <summary>What lives as long as the service.</summary>
    private static void AddKept(IServiceCollection s, BeaconOptions options)
    {
        s.AddSingleton(options);
        s.AddSingleton(TimeProvider.System);
        s.AddSingleton<WriteGate>();
        s.AddSingleton<ConcernKeeper>();
        s.AddSingleton<AuthorityConcerns>();
        s.AddSingleton<WatchConcerns>();
        s.AddSingleton<Renewals.Wake>();
        // The options are built once: they cost more than the context itself.
        s.AddDbContext<BeaconDb>(b => Database.Use(b, options), ServiceLifetime.Scoped, ServiceLifetime.Singleton);
        s.AddSingleton<Changes>();
        s.AddSingleton<WorkBell>();
        s.AddSingleton<OpenOrders>();
        s.AddSingleton<AuthorityKeys>();
        s.AddSingleton<AuthorityRegistry>();
        s.AddSingleton<CrlShelf>();
        s.AddSingleton<RevocationBook>();
        s.AddSingleton<EditionStates>();
        s.AddSingleton(new IssuedTable(Database.ConnectionString(options)));
        s.AddSingleton<ResponderCertificates>();
        s.AddSingleton<OcspDesk>();
        s.AddSingleton<HealthBook>();
        s.AddSingleton<FetchPoint>();
        s.AddSingleton<PushPublished>();
        s.AddSingleton<EditionLedger>();
        s.AddSingleton<IssueEdition>();
        s.AddSingleton<ServiceCertificate>();
        s.AddSingleton<IRenewsItself>(p => p.GetRequiredService<ServiceCertificate>());
        s.AddSingleton<IRenewsItself>(p => p.GetRequiredService<ResponderCertificates>());
        s.AddSingleton<IHearsOfRevocations>(p => p.GetRequiredService<OcspDesk>());
        s.AddSingleton<IHearsOfRevocations>(p => p.GetRequiredService<ServiceCertificate>());
        s.AddSingleton<IHearsOfRevocations>(p => p.GetRequiredService<ResponderCertificates>());
        s.AddSingleton<ProfileCatalogue>();
        s.AddSingleton<SignInDesk>();
        s.AddSingleton<SignInThrottle>();
        s.AddSingleton<RefusedSignIns>();
        s.AddSingleton<HashLane>();
        s.AddSingleton<PeopleBook>();
        AddDomain(s, options);
        s.AddSingleton<MayAct>();
        s.AddSingleton<Offers>();
        s.AddSingleton<RecoveryKeys>();
        s.AddSingleton<Custody>();
        s.AddSingleton<ClientCertificates>();
        s.AddSingleton<JudgeLook>();
        s.AddSingleton<AnchorBook>();
        s.AddSingleton<Trusted>();
        s.AddSingleton<NameHolders>();
        s.AddSingleton<OutsideBook>();
        s.AddSingleton<Presence>();
        s.AddSingleton<NewsLimit>();
    }

    /// <summary>Directory, DNS and tickets, of those that live as long as the service.</summary>
    private static void AddDomain(IServiceCollection s, BeaconOptions options)
    {
        s.AddSingleton(p => new DirectoryBook(DirectoryOf(options), options, p.GetRequiredService<TimeProvider>()));
        s.AddSingleton<DomainGroups>();
        s.AddSingleton<Resolver>();
        s.AddSingleton<ZoneUpdates>();
        s.AddSingleton<TlsaLookup>();
        s.AddSingleton<RolloverBook>();
        s.AddSingleton<ProviderBook>();
        s.AddSingleton<MatchRecords>();
        s.AddSingleton<NameEvidence>();
        s.AddSingleton<MachineAccounts>();
        s.AddSingleton<Tickets>();
        s.AddSingleton<DomainPeople>();
    }

    private static IDirectory? DirectoryOf(BeaconOptions options)
    {
        if (options.Directory.Length == 0)
            return null;
        if (options.Directory.Contains("://", StringComparison.Ordinal))
            return new LdapDirectory(LdapSettings.Of(options));
        return new EmbeddedDirectory(Path.GetFullPath(options.Directory));
    }

    /// <summary>What lives for one call or one piece of a round.</summary>
    private static readonly Type[] Scoped =
    [
        typeof(FoundAuthorities),
        typeof(PublishCrl),
        typeof(DecideEnrolment),
        typeof(DecideAgain),
        typeof(AmendRequest),
        typeof(EnrolDesk),
        typeof(EnrolAgent),
        typeof(JoinHost),
        typeof(ChangePeople),
        typeof(Consents),
        typeof(Owners),
        typeof(Attempts),
        typeof(HouseConcerns),
        typeof(RowConcerns),
        typeof(Suggestions),
        typeof(Trust.LookaheadQuery),
        typeof(MeetAgent),
        typeof(WishReading),
        typeof(CarryOutRequest),
        typeof(SubmitRequest),
        typeof(DecideRequest),
        typeof(InviteHost),
        typeof(RemoveHost),
        typeof(TakeReport),
        typeof(AnswerCsr),
        typeof(TakeResult),
        typeof(OrderDesk),
        typeof(ServiceQueries),
        typeof(Hosts.HostQueries),
        typeof(BindService),
        typeof(TlsDemands),
        typeof(TakeProviders),
        typeof(ReportParts),
        typeof(RollProviders),
        typeof(ChangeProvider),
        typeof(ProviderQueries),
        typeof(SeenProvider),
        typeof(RunSweeps),
        typeof(TakeSweepPart),
        typeof(SweepQueries),
        typeof(TakeTrust),
        typeof(AnchorQueries),
        typeof(ChangeTrust),
        typeof(WhyRefused),
        typeof(CertificateQueries),
        typeof(CertificateList),
        typeof(RevokeEdition),
        typeof(ReleaseEdition),
        typeof(RevokeMany),
        typeof(AnnounceRevocations),
        typeof(InstallAnswer),
        typeof(InstallRoot),
        typeof(PublishRootCrl),
        typeof(AuthorityQueries),
        typeof(RenewAuthority),
        typeof(TakeUpGeneration),
        typeof(UndoRenewal),
        typeof(RehearseRenewal),
        typeof(ChangeProfile),
        typeof(AskParent),
        typeof(TakeBackup),
        typeof(RestoreBackup),
        typeof(CollectAnswer),
        typeof(CheckHierarchy),
        typeof(WantedPoints),
        typeof(LookAtPoints),
        typeof(GenerationFindings),
        typeof(OrderRenewal),
        typeof(TakeServices),
        typeof(TodayQuery),
        typeof(FindDoor),
        typeof(LookFromHost),
        typeof(LookFromService),
        typeof(EstDoor),
        typeof(FindInDirectory),
        typeof(ComposeRequest),
        typeof(KeepOutside),
        typeof(KeepDevice),
        typeof(TakeAnswer),
        typeof(CompleteRequest),
        typeof(RecordBrought),
        typeof(TakeBrought),
        typeof(OrderStoreWork),
        typeof(CompareCertificates),
        typeof(TakePrepared),
        typeof(OrderOutcomes),
        typeof(PublishEditions),
        typeof(BeginRollover),
        typeof(FinishPrepared),
        typeof(RollKeys),
        typeof(SkipRecords),
    ];

    private static void AddWeb(IServiceCollection s, BeaconOptions options)
    {
        // Tokens are random and kept as hashes: without the framework's key ring and its encoders, which would be loaded for nothing.
        s.AddAuthenticationCore(o => o.DefaultScheme = Caller.Scheme);
        new AuthenticationBuilder(s).AddScheme<AuthenticationSchemeOptions, BeaconAuthentication>(Caller.Scheme, null);
        s.Configure<RouteHandlerOptions>(o => o.ThrowOnBadRequest = true);
        s.ConfigureHttpJsonOptions(o =>
        {
            o.SerializerOptions.TypeInfoResolverChain.Insert(0, BeaconJson.Default);
            o.SerializerOptions.NumberHandling = JsonNumberHandling.Strict;
            o.SerializerOptions.MaxDepth = 32;
        });
    }

    // A method of its own, so that what it needs is loaded only where it runs.
    [MethodImpl(MethodImplOptions.NoInlining)]
    private static void Describe(IServiceCollection s) =>
        s.AddOpenApi(o =>
        {
            o.AddOperationTransformer<OperationRoles>();
            o.AddSchemaTransformer<OpenWordSchemas>();
            o.AddDocumentTransformer(
                (document, _, _) =>
                {
                    document.Info.Title = "Orderly Beacon";
                    document.Servers = [];
                    return Task.CompletedTask;
                }
            );
        });

    /// <summary>Database, authorities, first administrator, own certificate: everything that must be there before the first call.</summary>
    public static async Task PrepareAsync(this WebApplication app)
    {
        var options = app.Services.GetRequiredService<BeaconOptions>();
        Directory.CreateDirectory(options.Data, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        app.Services.GetRequiredService<PushPublished>().Check();
        app.Services.GetRequiredService<ZoneUpdates>().Check();
        TakeBackup.Tidy(options.Data);
        await using var scope = app.Services.CreateAsyncScope();
        var db = scope.ServiceProvider.GetRequiredService<BeaconDb>();
        await Database.UpdateAsync(db, CancellationToken.None);
        await scope.ServiceProvider.GetRequiredService<FoundAuthorities>().RunAsync(CancellationToken.None);
        var registry = app.Services.GetRequiredService<AuthorityRegistry>();
        await registry.LoadAsync(db, CancellationToken.None);
        await app
            .Services.GetRequiredService<ProfileCatalogue>()
            .LoadAsync(db, app.Services.GetRequiredService<TimeProvider>().GetUtcNow(), CancellationToken.None);
        await LoadBooksAsync(app.Services, db);
        var shelf = app.Services.GetRequiredService<CrlShelf>();
        foreach (var a in registry.Authorities)
        foreach (var key in a.Certified.Select(g => g.KeyNumber).Distinct())
        foreach (var delta in new[] { false, true })
            if (
                await db
                    .Crls.AsNoTracking()
                    .Where(c => c.AuthorityId == a.Id && c.KeyNumber == key && c.IsDelta == delta)
                    .OrderByDescending(c => c.Number)
                    .FirstOrDefaultAsync() is
                { } crl
            )
                shelf.Put(a.Slug, crl);
        await TryAsync(() =>
            scope.ServiceProvider.GetRequiredService<PublishCrl>().RunAsync(Actor.System, "start", CrlOccasion.Due, CancellationToken.None)
        );
        await AnswerOnce.CutOffAsync(db);
        await Caretaker.MendAsync(db, app.Services.GetRequiredService<TimeProvider>().GetUtcNow(), CancellationToken.None);
        await FirstPersonAsync(app, db, options);
        // The ledger is not running yet, and the certificate must be recorded before the first connection: it runs for this alone.
        var ledger = app.Services.GetRequiredService<EditionLedger>();
        await ledger.StartAsync(CancellationToken.None);
        await app.Services.GetRequiredService<ServiceCertificate>().RenewIfDueAsync(CancellationToken.None);
        await TryAsync(() => app.Services.GetRequiredService<ResponderCertificates>().RenewIfDueAsync(CancellationToken.None));
        // Who asks first is told what is so, not what was so when it was stopped.
        var house = scope.ServiceProvider.GetRequiredService<HouseConcerns>();
        await app.Services.GetRequiredService<WatchConcerns>().HouseAsync(db, house, CancellationToken.None);

        // A key that cannot be used must not keep the service from saying so; the regular round tries again.
        async Task TryAsync(Func<Task> work)
        {
            try
            {
                await work();
            }
            catch (BeaconProblem p)
            {
                app.Logger.LogError("{Message} {Cure}", p.Message, p.Cure);
            }
        }
    }

    private static async Task LoadBooksAsync(IServiceProvider services, BeaconDb db)
    {
        await services.GetRequiredService<OutsideBook>().LoadAsync(db, CancellationToken.None);
        await services.GetRequiredService<AnchorBook>().LoadAsync(db, CancellationToken.None);
        await services.GetRequiredService<RolloverBook>().LoadAsync(db, CancellationToken.None);
        await services.GetRequiredService<ProviderBook>().LoadAsync(db, CancellationToken.None);
    }

    /// <summary>The first administrator. The password comes from a file named by BEACON_FIRSTPASSWORDFILE, or is made and left in a file to be read once.</summary>
    private static async Task FirstPersonAsync(WebApplication app, BeaconDb db, BeaconOptions options)
    {
        if (await db.People.AnyAsync())
            return;
        var name = options.FirstName;
        string password;
        if (options.FirstPasswordFile is { Length: > 0 } file)
            password = (await File.ReadAllTextAsync(file)).Trim();
        else
        {
            password = string.Join(
                '-',
                Enumerable.Range(0, 4).Select(_ => RandomNumberGenerator.GetString("abcdefghjkmnpqrstuvwxyz23456789", 5))
            );
            var path = Path.Combine(options.Data, "first-sign-in.txt");
            File.Delete(path);
            PrivateFiles.WriteNew(path, $"name: {name}\npassword: {password}\n");
            app.Logger.LogInformation("The first administrator's name and password are in {Path}; read it and delete it", path);
        }
        var desk = app.Services.GetRequiredService<SignInDesk>();
        var hash = await desk.HashAsync(password, CancellationToken.None);
        await using var write = await db.BeginWriteAsync();
        db.People.Add(Person.Of(name, hash, [Who.Administrators]));
        await db.Note(
            app.Services.GetRequiredService<TimeProvider>().GetUtcNow(),
            Actor.System,
            JournalAction.PersonAdded,
            name,
            "the first administrator"
        );
        await write.CommitAsync();
    }

    private static void MapDocument(this WebApplication app, string path, string resource, string type) =>
        app.MapGet(path, () => TypedResults.Stream(typeof(Composition).Assembly.GetManifestResourceStream(resource)!, type))
            .ExcludeFromDescription();

    public static void MapBeacon(this WebApplication app, BeaconOptions options)
    {
        app.UseOcsp();
        app.UseRouting();
        // What is unexpected is logged there, once; what is expected is no error of the service.
        app.UseExceptionHandler(
            new ExceptionHandlerOptions { ExceptionHandler = Problems.HandleAsync, SuppressDiagnosticsCallback = _ => true }
        );
        app.UseStatusCodePages(c => Problems.SayWhatCannotBeReadAsync(c.HttpContext));
        app.UseDoors(options);
        app.UseConsoleFiles();
        app.UseAuthentication();
        app.UseLanes(options);
        app.UseRights(options);
        app.UseAnswerOnce();
        app.MapDocument("/api/openapi.json", "openapi.json", "application/json");
        app.MapDocument("/api/profile.schema.json", "profile.schema.json", "application/schema+json");
        app.MapPublication();
        app.MapEst();

        var api = app.MapGroup("/api/v1").AddEndpointFilter<RouteGroupBuilder, BodyCheck>().AddEndpointFilterFactory(QueryCheck.Create);
        api.MapTrust();
        api.MapDirectory();
        api.MapHosts();
        api.MapServices();
        api.MapStores();
        api.MapProviders();
        api.MapSweeps();
        api.MapAnchors();
        api.MapProfiles();
        api.MapRequests();
        api.MapOutside();
        api.MapCertificates();
        api.MapAuthorities();
        api.MapOfflineRoot();
        api.MapRenewal();
        api.MapHealth();
        api.MapBackup();
        api.MapJournal();
        OrderDesk.MapOrders(api);
        api.MapGet("/events", (Changes changes, CancellationToken ct) => TypedResults.ServerSentEvents(changes.Listen(ct)))
            .Is(Operation.ListenToChanges)
            .ExcludeFromDescription();
        api.MapSubordinates();
        api.MapPeople();
        api.MapAgents();
        app.MapConsole();
        app.CheckRights();
    }
}
