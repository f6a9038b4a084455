using System.Text.Json;
using OrderlyBeacon.Agent.Connectors;
using OrderlyBeacon.Agent.Orders;
using OrderlyBeacon.Agent.Store;
using OrderlyBeacon.Agent.Swap;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Formats;

namespace OrderlyBeacon.Agent.Tests;

/// <summary>What is done with the entries of a store: one holder of a label, no key lost, nothing taken from under a server.</summary>
public sealed class StoreWorkTests : IDisposable
{
    private readonly Scratch _s = new();
    private readonly CertificateStore _store;
    private readonly BoundBook _bounds;
    private readonly SealKey _sealKey;
    private readonly StoreWork _work;

    public StoreWorkTests()
    {
        (_store, _bounds, _sealKey) = (new(_s["store"]), new(_s["state"]), new(_s["state"]));
        Directory.CreateDirectory(_s["state"]);
        _work = new(_store, _bounds, _sealKey, new OrderlyBeacon.Agent.Connectors.Instances([]));
    }

    public void Dispose() => _s.Dispose();

    private StoreEntry Entry(string name, int days = 30)
    {
        var (key, pem) = (_s[name + ".key"], _s[name + ".pem"]);
        Programs.OpenSsl(
            $"req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {key} -out {pem} -days {days} -subj /CN={name} -addext subjectAltName=DNS:{name}"
        );
        return _store.Adopt(name, File.ReadAllText(key), File.ReadAllText(pem), 1, releasable: false);
    }

    private OrderResult Do(StoreAct act, StoreEntry? entry, string? label = null) =>
        _work.Run(
            new Order(7, OrderKind.Store, null, null, null, null, null, null, null, null, null, null)
            {
                Store = new(act, entry?.File.Thumbprint, label),
            }
        );

    private string? LabelOf(StoreEntry e) => _store.ByThumbprint(e.File.Thumbprint).File.Label;

    [Fact]
    public void A_label_has_one_holder_and_goes_back_to_who_had_it()
    {
        var (a, b) = (Entry("a.example"), Entry("b.example"));
        Do(StoreAct.Relabel, a, "gate");
        var told = Do(StoreAct.Relabel, b, "gate").Steps;
        Assert.Contains(told, t => t.Contains("a.example") && t.Contains("(until"));
        Assert.Equal("gate", LabelOf(b));
        Assert.StartsWith("gate (until ", LabelOf(a));
        // The same again changes nothing, and does not forget how to undo it.
        Do(StoreAct.Relabel, b, "gate");
        Do(StoreAct.UndoLabel, b);
        Assert.Equal(("gate", null), (LabelOf(a), LabelOf(b)));
        foreach (var bad in new[] { "", "  ", new string('x', 101), "two\nlines" })
            Assert.Throws<BeaconProblem>(() => Do(StoreAct.Relabel, a, bad));
    }

    /// <summary>Killed before any of its writes and done again, it ends as it would have, with one holder.</summary>
    [Fact]
    public void A_kill_at_any_step_leaves_at_most_one_holder_and_is_made_good()
    {
        for (var step = 0; ; step++)
        {
            var (a, b) = (Entry($"a{step}.example"), Entry($"b{step}.example"));
            Do(StoreAct.Relabel, a, $"gate{step}");
            var left = step;
            AtomicFiles.Before.Value = _ =>
            {
                if (left-- == 0)
                    throw new IOException("killed");
            };
            var killed = false;
            try
            {
                Do(StoreAct.Relabel, b, $"gate{step}");
            }
            catch (IOException)
            {
                killed = true;
            }
            AtomicFiles.Before.Value = null;
            Assert.True(_store.Entries().Count(e => e.File.Label == $"gate{step}") <= 1);
            Do(StoreAct.Relabel, b, $"gate{step}");
            Assert.Equal($"gate{step}", LabelOf(b));
            Assert.Single(_store.Entries(), e => e.File.Label == $"gate{step}");
            if (!killed)
                break;
        }
    }

    [Fact]
    public void A_new_edition_takes_the_label_along()
    {
        var first = Entry("mail.example");
        Do(StoreAct.Relabel, first, "mail");
        var next = Entry("mail.example", 60);
        new Labels(_store).PassOn(next);
        Assert.Equal("mail", LabelOf(next));
        Assert.StartsWith("mail (until ", LabelOf(first));
        var third = Entry("mail.example", 90);
        new Labels(_store).PassOn(third);
        Assert.Equal("mail", LabelOf(third));
        Assert.Equal(3, _store.Entries().Select(e => e.File.Label).Distinct().Count());
    }

    [Fact]
    public void What_a_server_is_configured_with_is_neither_archived_nor_deleted()
    {
        var e = Entry("shop.example");
        var key = e.Leaf().PublicKey;
        AtomicFiles.Link(_store.InUseLink("shop.example"), _store.LinkTargetFor(e));
        _bounds.Keep(new("shop", "shop.example", []));
        foreach (var act in new[] { StoreAct.Archive, StoreAct.Remove })
            Assert.Contains("would not start", Assert.Throws<BeaconProblem>(() => Do(act, e)).Message);
        Assert.True(_store.IsInUse(_store.ByThumbprint(e.File.Thumbprint)));

        _bounds.Forget("shop");
        Do(StoreAct.Archive, e);
        Assert.True(_store.List().Single().Archived);
        Assert.Null(_store.InUse("shop.example"));
        Assert.NotNull(_store.FindKey(key));
        // Done again after a kill, each is what was wanted.
        Do(StoreAct.Archive, e);
        Do(StoreAct.Restore, e);
        Do(StoreAct.Restore, e);
        Assert.False(_store.List().Single().Archived);
        Do(StoreAct.Remove, e);
        Do(StoreAct.Remove, e);
        Assert.Empty(_store.List());
    }

    [Fact]
    public void What_is_sealed_to_another_agent_is_refused_and_an_unknown_act_is_not_guessed()
    {
        using var other = Sealing.NewKey();
        var content = JsonSerializer.SerializeToUtf8Bytes(new ImportContent([], null, false), BeaconJson.Default.ImportContent);
        var order = new Order(7, OrderKind.Store, null, null, null, null, null, null, null, null, null, null)
        {
            Store = new(
                StoreAct.Import,
                Sealed: Convert.ToBase64String(Sealing.Seal(Sealing.PublicKeyOf(other), SealPurpose.Import, content))
            ),
        };
        Assert.Equal(ProblemCode.DataDamaged, Assert.Throws<BeaconProblem>(() => _work.Run(order)).Code);
        Assert.Equal(ProblemCode.ConfigurationUnsupported, Assert.Throws<BeaconProblem>(() => Do(StoreAct.Unknown, null)).Code);
        var key = _s["state/seal.key"];
        _ = _sealKey.Public();
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(key));
    }
}
