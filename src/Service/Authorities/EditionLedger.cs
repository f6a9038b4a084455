using System.Threading.Channels;
using Microsoft.Data.Sqlite;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>One edition to be recorded, signed already.</summary>
/// <param name="Content">What was signed.</param>
/// <param name="Decision">What it was signed on; it is kept with the edition.</param>
public sealed record EditionRecord(
    CertificateContent Content,
    byte[] Der,
    int GenerationId,
    GrantedDecision Decision,
    EditionPlace Place,
    DateTimeOffset At
);

/// <summary>What is on record now.</summary>
/// <param name="Der">The edition; an earlier one when the request had been answered before.</param>
public sealed record Recorded(byte[] Der, int CertificateId, bool WasThere);

/// <summary>
/// Records editions durably before they leave. Whatever waits at the same time shares one transaction, so that the disk is asked once for many. It is the last to look:
/// a burnt key, another certificate's key, a request that waits no more end here, whoever came first.
/// </summary>
public sealed class EditionLedger : BackgroundService
{
    private readonly Channel<Waiting> _queue = Channel.CreateBounded<Waiting>(new BoundedChannelOptions(4096) { SingleReader = true });
    private readonly WriteGate _gate;
    private readonly string _connectionString;

    private sealed record Waiting(EditionRecord Record, TaskCompletionSource<Recorded> Answer);

    public EditionLedger(WriteGate gate, BeaconOptions options)
    {
        _gate = gate;
        _connectionString = Database.ConnectionString(options);
    }

    public async Task<Recorded> RecordAsync(EditionRecord record, CancellationToken ct)
    {
        var waiting = new Waiting(record, new(TaskCreationOptions.RunContinuationsAsynchronously));
        await _queue.Writer.WriteAsync(waiting, ct);
        return await waiting.Answer.Task;
    }

    protected override async Task ExecuteAsync(CancellationToken stopping)
    {
        await Task.Yield();
        LedgerCommands? commands = null;
        try
        {
            var batch = new List<Waiting>();
            while (await _queue.Reader.WaitToReadAsync(stopping))
            {
                await _gate.EnterAsync(stopping);
                try
                {
                    while (batch.Count < 256 && _queue.Reader.TryRead(out var w))
                        batch.Add(w);
                    commands ??= new LedgerCommands(_connectionString);
                    WriteBatch(commands, batch);
                }
                catch (SqliteException e)
                {
                    foreach (var w in batch)
                        w.Answer.TrySetException(e);
                    commands?.Dispose();
                    commands = null;
                }
                finally
                {
                    _gate.Leave();
                    batch.Clear();
                }
            }
        }
        catch (OperationCanceledException) { }
        finally
        {
            commands?.Dispose();
            _queue.Writer.TryComplete();
            while (_queue.Reader.TryRead(out var w))
                w.Answer.TrySetCanceled(CancellationToken.None);
        }
    }

    private void WriteBatch(LedgerCommands c, List<Waiting> batch)
    {
        try
        {
            Answer(WriteTogether(c, batch));
        }
        catch (SqliteException) when (batch.Count > 1)
        {
            // One bad row must not take its neighbours down: each is tried alone.
            foreach (var w in batch)
                try
                {
                    Answer(WriteTogether(c, [w]));
                }
                catch (SqliteException e)
                {
                    w.Answer.TrySetException(e);
                }
        }
    }

    private static void Answer(List<(Waiting Waiting, Recorded? Recorded, BeaconProblem? Problem)> answers)
    {
        foreach (var (w, recorded, problem) in answers)
            if (recorded is not null)
                w.Answer.TrySetResult(recorded);
            else
                w.Answer.TrySetException(problem!);
    }

    private List<(Waiting, Recorded?, BeaconProblem?)> WriteTogether(LedgerCommands c, List<Waiting> batch)
    {
        var answers = new List<(Waiting, Recorded?, BeaconProblem?)>(batch.Count);
        using var tx = c.Connection.BeginTransaction();
        c.Use(tx);
        JournalRecord? last = c.LastEntry();
        foreach (var w in batch)
        {
            try
            {
                var (recorded, entry) = c.Write(w.Record, last);
                last = entry ?? last;
                answers.Add((w, recorded, null));
            }
            catch (BeaconProblem p)
            {
                // Nothing was written for it: everything is looked at before the first row.
                answers.Add((w, null, p));
            }
        }
        tx.Commit();
        _gate.Written();
        return answers;
    }
}
