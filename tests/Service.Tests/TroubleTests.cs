using System.Net;
using System.Net.Http.Json;
using System.Security.Cryptography;
using Microsoft.AspNetCore.Builder;
using Microsoft.Data.Sqlite;
using Microsoft.Extensions.DependencyInjection;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Keys;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Revocation;
using OrderlyBeacon.Service.Authorities;
using OrderlyBeacon.Service.People;
using OrderlyBeacon.Service.Profiles;
using OrderlyBeacon.Service.Revocations;

namespace OrderlyBeacon.Service.Tests;

/// <summary>What machines do to a service: a clock that jumps, a disk that is full.</summary>
public sealed class TroubleTests
{
    private sealed class SetClock(DateTimeOffset at) : TimeProvider
    {
        public DateTimeOffset At { get; set; } = at;

        public override DateTimeOffset GetUtcNow() => At;
    }

    [Fact]
    public async Task No_revocation_is_lost_when_the_clock_is_set_back()
    {
        using var s = new Scratch();
        var right = DateTimeOffset.UtcNow;
        var clock = new SetClock(right.AddHours(5));
        var builder = ProgramFolder.Builder();
        builder.Services.AddBeacon(
            new BeaconOptions
            {
                Data = s["data"],
                Organization = "Thistledown Rail",
                Zones = "thistledown.example=administrators",
            },
            hosted: false
        );
        builder.Services.AddSingleton<TimeProvider>(clock);
        builder.Services.AddSingleton<Microsoft.Extensions.Hosting.IHostedService>(p => p.GetRequiredService<EditionLedger>());
        await using var app = builder.Build();
        var ledger = app.Services.GetRequiredService<EditionLedger>();
        await ledger.StartAsync(TestContext.Current.CancellationToken);
        await app.PrepareAsync();
        var shelf = app.Services.GetRequiredService<CrlShelf>();
        var robin = new Caller("robin", [Core.Rights.Who.Administrators], null);

        async Task<SerialNumber> RevokeOneAsync(string name)
        {
            await using var scope = app.Services.CreateAsyncScope();
            using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
            var profile = scope.ServiceProvider.GetRequiredService<ProfileCatalogue>().Get("server");
            var decided = await scope
                .ServiceProvider.GetRequiredService<Enrolment.DecideEnrolment>()
                .RunAsync(
                    new(profile, [name], DistinguishedName.ForCommonName(name), null, null, "group:administrators", []),
                    CancellationToken.None
                );
            var made = await scope
                .ServiceProvider.GetRequiredService<IssueEdition>()
                .RunAsync(
                    decided.Granted!,
                    PublicKeyInfo.Read(key.ExportSubjectPublicKeyInfo()),
                    new(name, EditionState.Current, Actor.System, "test"),
                    CancellationToken.None
                );
            await scope
                .ServiceProvider.GetRequiredService<RevokeEdition>()
                .RunAsync(name, new Revocation("superseded", null), robin, CancellationToken.None);
            return X509.Read(made.Der).Serial;
        }

        var first = await RevokeOneAsync("a.thistledown.example");
        var before = shelf.Get("issuing")!.List;
        Assert.NotNull(before.Find(first));
        clock.At = right;
        var second = await RevokeOneAsync("b.thistledown.example");
        var (full, delta) = (shelf.Get("issuing")!.List, shelf.Get(CrlShelf.DeltaName("issuing"))!.List);
        Assert.True(full.Number > before.Number);
        // A client whose clock is right takes the new list, and finds both in it, with the delta and without.
        Assert.True(full.ThisUpdate <= right && delta.ThisUpdate <= right && full.NextUpdate > right);
        foreach (var serial in new[] { first, second })
        {
            Assert.NotNull(full.Find(serial));
            Assert.NotNull(full.Find(serial, delta));
        }
        // Nor does the delta hide it from one who still has the list of before.
        Assert.True(!before.Fits(delta) || before.Find(second, delta) is not null);
        await ledger.StopAsync(TestContext.Current.CancellationToken);
    }

    /// <summary>The service's folder on a file system of its own, small enough to fill.</summary>
    [Fact]
    public async Task A_full_disk_keeps_the_old_list_and_half_records_nothing()
    {
        await using var service = new RunningService();
        Directory.CreateDirectory(service.Data, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        var (mounted, _, why) = Programs.Run("mount", ["-t", "tmpfs", "-o", "size=48m,mode=0700", "tmpfs", service.Data]);
        Assert.SkipWhen(mounted != 0, "a file system of its own needs root and the right to mount: " + why);
        try
        {
            await service.InitializeAsync();
            var home = service.Home();
            byte[] List() =>
                new HttpClient().GetByteArrayAsync($"http://127.0.0.1:{service.PublicationPort}/crl/issuing.crl").GetAwaiter().GetResult();
            var old = List();

            // The log is emptied, so that there is no room in it that was had before; then everything is filled.
            using (var db = new SqliteConnection($"Data Source={Path.Combine(service.Data, "beacon.db")};Pooling=False"))
            {
                db.Open();
                using var c = db.CreateCommand();
                c.CommandText = "PRAGMA wal_checkpoint(TRUNCATE)";
                c.ExecuteNonQuery();
            }
            var filler = Path.Combine(service.Data, "filler");
            await using (var f = File.Create(filler))
                try
                {
                    while (true)
                    {
                        f.Write(new byte[4096]);
                        f.Flush();
                    }
                }
                catch (IOException) { }

            var p = await RunningService.ProblemAsync(
                await service.Robin.PostAsync(
                    "/api/v1/authorities/issuing/crl",
                    JsonContent.Create(new object()),
                    TestContext.Current.CancellationToken
                ),
                HttpStatusCode.ServiceUnavailable
            );
            Assert.Contains("disk is full", p.Detail);
            Assert.Contains("Free space", p.Cure);
            var (code, _, error) = service.Beacon(home, "authority", "issue-crl", "issuing");
            Assert.NotEqual(0, code);
            Assert.Contains("disk is full", error);
            Assert.Equal(old, List());
            // Through a regular round, too, everything that is served stays.
            await Task.Delay(TimeSpan.FromSeconds(3), TestContext.Current.CancellationToken);
            Assert.Equal(old, List());

            File.Delete(filler);
            (code, _, error) = service.Beacon(home, "authority", "issue-crl", "issuing");
            Assert.True(code == 0, error);
            Assert.Equal(Crl.Read(old).Number + 1, Crl.Read(List()).Number);
            (code, _, error) = service.Beacon(home, "journal", "verify");
            Assert.True(code == 0, error);
        }
        finally
        {
            await service.DisposeAsync();
            Programs.Run("umount", ["-l", service.Data]);
            // What was under the mount could not be removed before.
            service.Scratch.Dispose();
        }
    }
}
