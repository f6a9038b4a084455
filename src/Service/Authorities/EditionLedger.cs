using System.Threading.Channels;
using Microsoft.Data.Sqlite;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core.Issuing;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>One edition to be recorded, signed already.</summary>
/// <param name="CertificateId">The certificate it belongs to; 0 makes or finds one by <paramref name="CertificateName"/>.</param>
/// <param name="RequestId">The request it answers: at most one edition is ever recorded for a request.</param>
public sealed record EditionRecord(
    X509 Edition,
    byte[] Der,
    int GenerationId,
    int CertificateId,
    string CertificateName,
    string NamesJson,
    long? RequestId,
    string Profile,
    int ProfileRevision,
    EditionState State,
    string Actor,
    string Cause,
    DateTimeOffset At
);

/// <summary>What is on record now.</summary>
/// <param name="Der">The edition; an earlier one when the request had been answered before.</param>
public sealed record Recorded(byte[] Der, int CertificateId, bool WasThere);

/// <summary>
/// Records editions durably before they leave. Whatever waits at the same time shares one transaction, so that the disk is asked once for many.
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
        Commands? commands = null;
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
                    commands ??= new Commands(_connectionString);
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

    private static void WriteBatch(Commands c, List<Waiting> batch)
    {
        try
        {
            foreach (var (w, recorded) in WriteTogether(c, batch))
                w.Answer.TrySetResult(recorded);
        }
        catch (SqliteException) when (batch.Count > 1)
        {
            // One bad row must not take its neighbours down: each is tried alone.
            foreach (var w in batch)
                try
                {
                    w.Answer.TrySetResult(WriteTogether(c, [w])[0].Item2);
                }
                catch (SqliteException e)
                {
                    w.Answer.TrySetException(e);
                }
        }
    }

    private static List<(Waiting, Recorded)> WriteTogether(Commands c, List<Waiting> batch)
    {
        var answers = new List<(Waiting, Recorded)>(batch.Count);
        using var tx = c.Connection.BeginTransaction();
        c.Use(tx);
        var last = c.LastEntry();
        foreach (var w in batch)
        {
            var (recorded, entry) = c.Write(w.Record, last);
            last = entry ?? last;
            answers.Add((w, recorded));
        }
        tx.Commit();
        return answers;
    }

    /// <summary>Prepared statements on a connection of their own.</summary>
    private sealed class Commands : IDisposable
    {
        private readonly List<SqliteCommand> _all = [];
        private readonly SqliteCommand _byRequest,
            _certificate,
            _makeCertificate,
            _supersede,
            _insert,
            _lastEntry,
            _journal,
            _request;

        public Commands(string connectionString)
        {
            Connection = new(connectionString);
            Connection.Open();
            using (var p = Connection.CreateCommand())
            {
                p.CommandText = SqliteSettings.Pragmas;
                p.ExecuteNonQuery();
            }
            _byRequest = Make("SELECT Der, CertificateId FROM Editions WHERE RequestId = $request", "$request");
            _certificate = Make("SELECT Id FROM Certificates WHERE Name = $name", "$name");
            _makeCertificate = Make(
                """
                INSERT INTO Certificates (Name, Profile, Subject, NamesJson, Key, Owner, ApprovedJson, RenewAfter, NewKey, Automatic, Failures, Version)
                VALUES ($name, $profile, $subject, $names, $key, $owner, '[]', 0.6667, 1, 0, 0, 1) RETURNING Id
                """,
                "$name",
                "$profile",
                "$subject",
                "$names",
                "$key",
                "$owner"
            );
            _supersede = Make(
                $"UPDATE Editions SET State = {(int)EditionState.Previous} WHERE CertificateId = $certificate AND State = $state",
                "$certificate",
                "$state"
            );
            _insert = Make(
                """
                INSERT INTO Editions (CertificateId, GenerationId, RequestId, Serial, Thumbprint, KeyFingerprint, Profile, ProfileRevision, Der, IssuedAt, NotBefore, NotAfter, State)
                VALUES ($certificate, $generation, $request, $serial, $thumbprint, $key, $profile, $revision, $der, $at, $from, $to, $state)
                """,
                "$certificate",
                "$generation",
                "$request",
                "$serial",
                "$thumbprint",
                "$key",
                "$profile",
                "$revision",
                "$der",
                "$at",
                "$from",
                "$to",
                "$state"
            );
            _lastEntry = Make(
                "SELECT Sequence, At, Actor, Action, Subject, Detail, Previous, Hash FROM Journal ORDER BY Sequence DESC LIMIT 1"
            );
            _journal = Make(
                "INSERT INTO Journal (Sequence, At, Actor, Action, Subject, Detail, Previous, Hash) VALUES ($n, $at, $actor, $action, $subject, $detail, $previous, $hash)",
                "$n",
                "$at",
                "$actor",
                "$action",
                "$subject",
                "$detail",
                "$previous",
                "$hash"
            );
            _request = Make(
                $"UPDATE Requests SET State = {(int)RequestState.Issued}, Reason = NULL, CertificateId = $certificate, Version = Version + 1 WHERE Id = $request",
                "$certificate",
                "$request"
            );
        }

        public SqliteConnection Connection { get; }

        private SqliteCommand Make(string sql, params string[] names)
        {
            var c = Connection.CreateCommand();
            c.CommandText = sql;
            foreach (var n in names)
                c.Parameters.Add(new SqliteParameter { ParameterName = n });
            _all.Add(c);
            return c;
        }

        private static void Set(SqliteCommand c, params ReadOnlySpan<object?> values)
        {
            for (var i = 0; i < values.Length; i++)
                c.Parameters[i].Value = values[i] ?? DBNull.Value;
        }

        public void Use(SqliteTransaction tx)
        {
            foreach (var c in _all)
                c.Transaction = tx;
        }

        public JournalRecord? LastEntry()
        {
            using var r = _lastEntry.ExecuteReader();
            return r.Read()
                ? new(
                    r.GetInt64(0),
                    DateTimeOffset.FromUnixTimeMilliseconds(r.GetInt64(1)),
                    r.GetString(2),
                    r.GetString(3),
                    r.GetString(4),
                    r.GetString(5),
                    r.GetString(6),
                    r.GetString(7)
                )
                : null;
        }

        public (Recorded, JournalRecord?) Write(EditionRecord e, JournalRecord? last)
        {
            if (e.RequestId is { } request)
            {
                Set(_byRequest, request);
                using var r = _byRequest.ExecuteReader();
                if (r.Read())
                    return (new((byte[])r[0], r.GetInt32(1), true), null);
            }
            var certificate = e.CertificateId != 0 ? e.CertificateId : FindOrMake(e);
            // A second edition that waits to be put in place takes the first one's turn; one that is in use at once takes the current one's.
            Set(_supersede, certificate, (int)e.State);
            _supersede.ExecuteNonQuery();
            var x = e.Edition;
            Set(
                _insert,
                certificate,
                e.GenerationId,
                e.RequestId,
                x.Serial.Hex,
                x.Thumbprint.Hex,
                x.PublicKey.Fingerprint(),
                e.Profile,
                e.ProfileRevision,
                e.Der,
                e.At.ToUnixTimeMilliseconds(),
                x.NotBefore.ToUnixTimeMilliseconds(),
                x.NotAfter.ToUnixTimeMilliseconds(),
                (int)e.State
            );
            _insert.ExecuteNonQuery();
            if (e.RequestId is { } answered)
            {
                Set(_request, certificate, answered);
                _request.ExecuteNonQuery();
            }
            var entry = JournalChain.Append(
                last,
                e.At,
                e.Actor,
                "edition.issued",
                e.CertificateName,
                $"serial {x.Serial}, profile {e.Profile} revision {e.ProfileRevision}, until {x.NotAfter:yyyy-MM-dd HH:mm:ss}Z, by {e.Cause}"
            );
            Set(
                _journal,
                entry.Sequence,
                entry.At.ToUnixTimeMilliseconds(),
                entry.Actor,
                entry.Action,
                entry.Subject,
                entry.Detail,
                entry.Previous,
                entry.Hash
            );
            _journal.ExecuteNonQuery();
            return (new(e.Der, certificate, false), entry);
        }

        private int FindOrMake(EditionRecord e)
        {
            Set(_certificate, e.CertificateName);
            if (_certificate.ExecuteScalar() is long id)
                return (int)id;
            Set(
                _makeCertificate,
                e.CertificateName,
                e.Profile,
                e.Edition.Subject.ToString(),
                e.NamesJson,
                e.Edition.PublicKey.Spec.ToString(),
                e.Actor
            );
            return (int)(long)_makeCertificate.ExecuteScalar()!;
        }

        public void Dispose()
        {
            foreach (var c in _all)
                c.Dispose();
            Connection.Dispose();
        }
    }
}
