using System.Text.Json;
using Microsoft.Data.Sqlite;
using OrderlyBeacon.Contracts;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Enrolment;
using OrderlyBeacon.Core.Journal;
using OrderlyBeacon.Core.Names;
using OrderlyBeacon.Core.Rights;
using OrderlyBeacon.Service.Storage;

namespace OrderlyBeacon.Service.Authorities;

/// <summary>The ledger's prepared statements, on a connection of their own. Everything is looked at before the first row is written.</summary>
internal sealed class LedgerCommands : IDisposable
{
    private static readonly string Expected = string.Join(
        ", ",
        new[] { RequestState.Draft, RequestState.WaitingForApproval, RequestState.WaitingForHost, RequestState.WaitingOutside }.Select(
            Quoted
        )
    );

    private static string Quoted<T>(T word)
        where T : struct, Enum => $"'{OpenWord<T>.WordOf(word)}'";

    private readonly List<SqliteCommand> _all = [];
    private readonly SqliteCommand _byRequest,
        _requestState,
        _isCurrent,
        _isBurnt,
        _keyElsewhere,
        _certificate,
        _makeCertificate,
        _changeCertificate,
        _hasNames,
        _forgetNames,
        _name,
        _supersede,
        _insert,
        _agent,
        _lastEntry,
        _journal,
        _request;

    public LedgerCommands(string connectionString)
    {
        Connection = new(connectionString);
        Connection.Open();
        using (var p = Connection.CreateCommand())
        {
            p.CommandText = SqliteSettings.Pragmas;
            p.ExecuteNonQuery();
        }
        _byRequest = Make("SELECT Der, CertificateId FROM Editions WHERE RequestId = $request");
        _requestState = Make($"SELECT State IN ({Expected}) FROM Requests WHERE Id = $request");
        _isCurrent = Make($"SELECT State = {Quoted(EditionState.Current)} AND RevokedAt IS NULL FROM Editions WHERE Serial = $serial");
        _isBurnt = Make("SELECT 1 FROM BurntKeys WHERE Fingerprint = $key");
        _keyElsewhere = Make("SELECT 1 FROM Editions WHERE KeyFingerprint = $key AND CertificateId <> $certificate LIMIT 1");
        _certificate = Make("SELECT Id, Owner FROM Certificates WHERE Name = $name");
        _makeCertificate = Make(
            """
            INSERT INTO Certificates (Name, Profile, Subject, NamesJson, Key, Owner, ApprovedJson, JudgeAt, HasEdition, RenewAfter, NewKey, Automatic, Failures, Version)
            VALUES ($name, $profile, $subject, $names, $key, $owner, $approved, $judge, 1, 0.6667, 1, 0, 0, 1) RETURNING Id
            """
        );
        // What it was is over: its concerns are judged anew in the next round.
        _changeCertificate = Make(
            """
            UPDATE Certificates SET Profile = $profile, Subject = $subject, NamesJson = $names, Key = $key, ApprovedJson = $approved, JudgeAt = $judge,
              HasEdition = 1, Version = Version + 1
            WHERE Id = $certificate
            """
        );
        _hasNames = Make("SELECT NamesJson = $names FROM Certificates WHERE Id = $certificate");
        _forgetNames = Make("DELETE FROM CertificateNames WHERE CertificateId = $certificate");
        _name = Make("INSERT INTO CertificateNames (CertificateId, Name) VALUES ($certificate, $name)");
        _supersede = Make(
            $"UPDATE Editions SET State = {Quoted(EditionState.Previous)} WHERE CertificateId = $certificate AND State = $state"
        );
        _insert = Make(
            """
            INSERT INTO Editions (CertificateId, GenerationId, RequestId, Serial, Thumbprint, KeyFingerprint, Profile, ProfileRevision, Der, DecisionJson, IssuedAt, NotBefore, NotAfter, State)
            VALUES ($certificate, $generation, $request, $serial, $thumbprint, $key, $profile, $revision, $der, $decision, $at, $from, $to, $state)
            """
        );
        _agent = Make(
            """
            UPDATE Hosts SET AgentNextThumbprint = CASE WHEN AgentThumbprint IS NULL THEN NULL ELSE $thumbprint END, AgentThumbprint = COALESCE(AgentThumbprint, $thumbprint),
              AgentCertificateEnds = $ends WHERE Id = $host
            """
        );
        _lastEntry = Make(
            "SELECT Sequence, At, Actor, Action, Subject, Detail, Previous, Hash FROM Journal ORDER BY Sequence DESC LIMIT 1"
        );
        _journal = Make(
            "INSERT INTO Journal (Sequence, At, Actor, Action, Subject, Detail, Previous, Hash) VALUES ($n, $at, $actor, $action, $subject, $detail, $previous, $hash)"
        );
        _request = Make(
            $"UPDATE Requests SET State = {Quoted(RequestState.Issued)}, Reason = NULL, CertificateId = $certificate, Version = Version + 1 WHERE Id = $request AND State IN ({Expected})"
        );
    }

    public SqliteConnection Connection { get; }

    /// <summary>Parameters are those that stand in the text, in the order of their first mention.</summary>
    private SqliteCommand Make(string sql)
    {
        var c = Connection.CreateCommand();
        c.CommandText = sql;
        foreach (var name in System.Text.RegularExpressions.Regex.Matches(sql, @"\$[a-z]+").Select(m => m.Value).Distinct())
            c.Parameters.Add(new SqliteParameter { ParameterName = name });
        _all.Add(c);
        return c;
    }

    private static SqliteCommand Set(SqliteCommand c, params ReadOnlySpan<object?> values)
    {
        for (var i = 0; i < values.Length; i++)
            c.Parameters[i].Value = values[i] ?? DBNull.Value;
        return c;
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

    /// <exception cref="BeaconProblem">It may not be recorded; nothing was written.</exception>
    public (Recorded, JournalRecord?) Write(EditionRecord e, JournalRecord? last)
    {
        var place = e.Place;
        if (place.RequestId is { } request)
        {
            if (Answered(request) is { } earlier)
                return (earlier, null);
            CheckRequest(request);
        }
        if (place.Renews is { } renewed)
            CheckCurrent(renewed);
        var key = e.Content.PublicKey.Fingerprint();
        var known = place.CertificateId != 0 ? place.CertificateId : Find(e);
        CheckKey(key, known);

        var certificate = known != 0 ? Change(e, known) : MakeCertificate(e);
        // A second edition that waits to be put in place takes the first one's turn; one that is in use at once takes the current one's.
        Set(_supersede, certificate, OpenWord<EditionState>.WordOf(place.State)).ExecuteNonQuery();
        Insert(e, certificate, key);
        if (place.AgentOf is { } host)
            Set(_agent, Thumbprint.Of(e.Der).Hex, e.Content.NotAfter.ToUnixTimeMilliseconds(), host).ExecuteNonQuery();
        if (place.RequestId is { } answered)
            Set(_request, certificate, answered).ExecuteNonQuery();
        return (new(e.Der, certificate, false), Note(e, last));
    }

    private Recorded? Answered(long request)
    {
        using var r = Set(_byRequest, request).ExecuteReader();
        return r.Read() ? new((byte[])r[0], r.GetInt32(1), true) : null;
    }

    private void CheckRequest(long request)
    {
        if (Set(_requestState, request).ExecuteScalar() is not 1L)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"Request {request} does not wait for an edition any more: it was withdrawn or refused meanwhile. Nothing was issued.",
                $"Look at it: beacon request show {request}."
            );
    }

    private void CheckCurrent(string serial)
    {
        if (Set(_isCurrent, serial).ExecuteScalar() is not 1L)
            throw new BeaconProblem(
                ProblemCode.WrongState,
                $"The edition {serial} is superseded or revoked: a newer one of this certificate was issued, and only that one is renewed.",
                "Use the newest edition; if it is lost, enrol anew and find out who has it."
            );
    }

    private void CheckKey(string key, int certificate)
    {
        if (Set(_isBurnt, key).ExecuteScalar() is not null)
            throw new BeaconProblem(
                ProblemCode.KeyNotAllowed,
                "This key was reported as compromised: it is never certified again.",
                "Make a new key, and find out where the old one is still used."
            );
        if (Set(_keyElsewhere, key, certificate).ExecuteScalar() is not null)
            throw new BeaconProblem(
                ProblemCode.KeyNotAllowed,
                "This key belongs to another certificate already; each certificate has keys of its own.",
                "Make a new key."
            );
    }

    /// <returns>0 when there is none of that name.</returns>
    private int Find(EditionRecord e)
    {
        using var r = Set(_certificate, e.Place.CertificateName).ExecuteReader();
        if (!r.Read())
            return 0;
        return r.GetString(1) == e.Decision.Requester
            ? r.GetInt32(0)
            : throw new BeaconProblem(
                ProblemCode.NotAllowed,
                $"The certificate \"{e.Place.CertificateName}\" belongs to {r.GetString(1).Replace(Thing.GroupPrefix, "the group ")}.",
                "Give yours another name, or ask an administrator to give it to you."
            );
    }

    private static object?[] Facts(EditionRecord e) =>
        [e.Decision.Profile.Id, e.Decision.Subject.ToString(), NamesOf(e), e.Content.PublicKey.Spec.ToString()];

    private static string Approved(EditionRecord e) => Shapes.Json(e.Decision.Approved);

    private int MakeCertificate(EditionRecord e)
    {
        // Nothing of ours renews what was handed out: it is called out some time before its end.
        var judge = e.Content.NotAfter - Concerns.JudgeCertificate.SoonBefore(e.Content.NotBefore, e.Content.NotAfter);
        var made = Set(
                _makeCertificate,
                [e.Place.CertificateName, .. Facts(e), e.Decision.Requester, Approved(e), judge.ToUnixTimeMilliseconds()]
            )
            .ExecuteScalar();
        var certificate = (int)(long)made!;
        WriteNames(e, certificate);
        return certificate;
    }

    private int Change(EditionRecord e, int certificate)
    {
        if (Set(_hasNames, NamesOf(e), certificate).ExecuteScalar() is not 1L)
        {
            Set(_forgetNames, certificate).ExecuteNonQuery();
            WriteNames(e, certificate);
        }
        // An agent's own certificate is told with its host.
        object? judge = e.Place.AgentOf is null ? e.At.ToUnixTimeMilliseconds() : null;
        Set(_changeCertificate, [.. Facts(e), Approved(e), judge, certificate]).ExecuteNonQuery();
        return certificate;
    }

    private void WriteNames(EditionRecord e, int certificate)
    {
        foreach (var name in e.Decision.Names.Select(n => n.ToString()).Distinct())
            Set(_name, certificate, name).ExecuteNonQuery();
    }

    private static string NamesOf(EditionRecord e) => Shapes.Json(e.Decision.Names.Select(n => n.ToString()));

    private void Insert(EditionRecord e, int certificate, string key)
    {
        var c = e.Content;
        Set(
                _insert,
                certificate,
                e.GenerationId,
                e.Place.RequestId,
                c.Serial.Hex,
                Thumbprint.Of(e.Der).Hex,
                key,
                e.Decision.Profile.Id,
                e.Decision.Profile.Revision,
                e.Der,
                DecisionOf(e.Decision),
                e.At.ToUnixTimeMilliseconds(),
                c.NotBefore.ToUnixTimeMilliseconds(),
                c.NotAfter.ToUnixTimeMilliseconds(),
                OpenWord<EditionState>.WordOf(e.Place.State)
            )
            .ExecuteNonQuery();
    }

    private static string DecisionOf(GrantedDecision d) =>
        JsonSerializer.Serialize(
            new DecisionInfo(
                d.Requester,
                d.At,
                [.. d.Grants.Select(g => new GrantInfo(g.Name, BeaconProblem.SlugOf(g.Reason), g.Evidence, g.By))]
            ),
            BeaconJson.Default.DecisionInfo
        );

    private JournalRecord Note(EditionRecord e, JournalRecord? last)
    {
        var profile = e.Decision.Profile;
        var entry = JournalChain.Append(
            last,
            e.At,
            e.Place.Actor.ToString(),
            JournalAction.EditionIssued.Word(),
            e.Place.CertificateName,
            $"serial {e.Content.Serial}, profile {profile.Id} revision {profile.Revision}, until {e.Content.NotAfter:yyyy-MM-dd HH:mm:ss}Z, by {e.Place.Cause}"
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
            )
            .ExecuteNonQuery();
        return entry;
    }

    public void Dispose()
    {
        foreach (var c in _all)
            c.Dispose();
        Connection.Dispose();
    }
}
