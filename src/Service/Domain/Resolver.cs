using System.Collections.Concurrent;
using System.Net;
using System.Net.Sockets;
using DnsClient;
using DnsClient.Protocol;
using OrderlyBeacon.Core;
using OrderlyBeacon.Core.Dane;
using OrderlyBeacon.Core.Profiles;

namespace OrderlyBeacon.Service.Domain;

/// <summary>The TLSA records of one owner.</summary>
/// <param name="Set">Under the name that aliases lead to; null when nobody could say.</param>
/// <param name="Asked">The owner that was asked about.</param>
/// <param name="Problem">Why it is not known; null when it is.</param>
public sealed record TlsaFacts(string Asked, TlsaSet? Set, string? Problem);

/// <summary>
/// Asks DNS where names and addresses lead, within a few seconds for all of them together; answers are kept for a minute. An authoritative server does not follow an alias into
/// another zone, so aliases are followed here, a bounded number of them.
/// </summary>
public sealed class Resolver
{
    private static readonly TimeSpan Deadline = TimeSpan.FromSeconds(3),
        Life = TimeSpan.FromMinutes(1);
    private const int MostKept = 20_000,
        MostReverse = 10;

    private readonly Lazy<LookupClient?> _client;
    private readonly TimeProvider _clock;
    private readonly ConcurrentDictionary<string, (object Answer, DateTimeOffset Until)> _kept = [];

    public Resolver(BeaconOptions options, TimeProvider clock) => (_client, _clock) = (new(() => Client(options)), clock);

    public bool IsThere => _client.Value is not null;

    public void Forget() => _kept.Clear();

    /// <param name="names">DNS names without wildcards.</param>
    public Task<IReadOnlyDictionary<string, DnsFacts>> NamesAsync(IEnumerable<string> names, CancellationToken ct) =>
        AllAsync(names, NameAsync, why => new DnsFacts([], [], why), ct);

    public Task<IReadOnlyDictionary<string, ReverseFacts>> AddressesAsync(IEnumerable<string> addresses, CancellationToken ct) =>
        AllAsync(addresses, AddressAsync, why => new ReverseFacts([], [], why), ct);

    /// <summary>The mail exchangers of a domain, the preferred first (RFC 5321 section 5.1); none when DNS says nothing.</summary>
    public async Task<IReadOnlyList<string>> ExchangersAsync(string domain, CancellationToken ct)
    {
        if (_client.Value is not { } client || domain.Length == 0)
            return [];
        using var deadline = CancellationTokenSource.CreateLinkedTokenSource(ct);
        deadline.CancelAfter(Deadline);
        try
        {
            var answer = await client.QueryAsync(domain, QueryType.MX, cancellationToken: deadline.Token);
            return
            [
                .. answer
                    .Answers.MxRecords()
                    .OrderBy(r => r.Preference)
                    .Select(r => Plain(r.Exchange.Value))
                    .Where(n => n.Length > 0)
                    .Take(MostReverse),
            ];
        }
        catch (Exception e) when (e is DnsResponseException || (e is OperationCanceledException && !ct.IsCancellationRequested))
        {
            return [];
        }
    }

    /// <summary>TLSA records (RFC 6698) by owner; owners without any have an empty set.</summary>
    /// <param name="serverOf">Whom to ask about an owner; null for the usual servers.</param>
    public async Task<IReadOnlyDictionary<string, TlsaFacts>> TlsaAsync(
        IEnumerable<string> owners,
        Func<string, IPEndPoint?> serverOf,
        CancellationToken ct
    )
    {
        var asked = owners.Distinct().ToList();
        // Always as it is now: what is kept is for whoever decides by it next.
        foreach (var owner in asked)
            _kept.TryRemove(KeyOf<TlsaFacts>(owner), out _);
        var found = await AllAsync(
            asked,
            (client, owner, c) => TlsaAsync(client, owner, serverOf(owner), c),
            why => new TlsaFacts("", null, why),
            ct
        );
        return found.ToDictionary(f => f.Key, f => f.Value with { Asked = f.Key });
    }

    /// <summary>What was answered within the last minute; null when nobody asked.</summary>
    public TlsaFacts? KnownTlsa(string owner) =>
        _kept.TryGetValue(KeyOf<TlsaFacts>(owner), out var kept) && kept.Until > _clock.GetUtcNow() ? (TlsaFacts)kept.Answer : null;

    private static async Task<TlsaFacts> TlsaAsync(LookupClient client, string owner, IPEndPoint? server, CancellationToken ct)
    {
        var at = owner;
        for (var step = 0; step <= DnsFacts.MostSteps; step++)
        {
            var answer = server is null
                ? await client.QueryAsync(at, QueryType.TLSA, cancellationToken: ct)
                : await client.QueryServerAsync([server], at, QueryType.TLSA, cancellationToken: ct);
            // One that is refused is none of these servers' names: nobody goes by what they would say of it.
            var isNone = answer.Header.ResponseCode is DnsHeaderResponseCode.NotExistentDomain or DnsHeaderResponseCode.Refused;
            if (answer.HasError && !isNone)
                return new(owner, null, $"the server answers {answer.ErrorMessage}");
            var aliases = Aliases(answer, at);
            var records = answer.Answers.OfType<DnsClient.Protocol.TlsaRecord>().Take(TlsaSet.MostRecords).ToList();
            if (aliases.Count == 0 || records.Count > 0)
            {
                var life = records.Count == 0 ? 0 : Math.Min(records.Max(r => r.InitialTimeToLive), TlsaSet.MostLife);
                return new(owner, new(aliases.Count > 0 ? aliases[^1] : at, life, [.. records.Select(Of)]), null);
            }
            // The alias lies in another zone: its own servers know, not this one.
            (at, server) = (aliases[^1], null);
        }
        return new(owner, null, $"it has more than {DnsFacts.MostSteps} aliases one after the other");
    }

    private static Core.Dane.TlsaRecord Of(DnsClient.Protocol.TlsaRecord r) =>
        new((int)r.CertificateUsage, (int)r.Selector, (int)r.MatchingType, Convert.ToHexStringLower([.. r.CertificateAssociationData]));

    private static string KeyOf<T>(string asked) => $"{typeof(T).Name} {asked}";

    private async Task<IReadOnlyDictionary<string, T>> AllAsync<T>(
        IEnumerable<string> asked,
        Func<LookupClient, string, CancellationToken, Task<T>> ask,
        Func<string, T> failed,
        CancellationToken ct
    )
        where T : class
    {
        if (_client.Value is not { } client)
            return new Dictionary<string, T>();
        using var deadline = CancellationTokenSource.CreateLinkedTokenSource(ct);
        deadline.CancelAfter(Deadline);
        var answers = await Task.WhenAll(asked.Distinct().Select(async name => (name, await OneAsync(client, name))));
        ct.ThrowIfCancellationRequested();
        return answers.ToDictionary(a => a.name, a => a.Item2);

        async Task<T> OneAsync(LookupClient c, string name)
        {
            var key = KeyOf<T>(name);
            var now = _clock.GetUtcNow();
            if (_kept.TryGetValue(key, out var kept) && kept.Until > now)
                return (T)kept.Answer;
            try
            {
                var answer = await ask(c, name, deadline.Token);
                if (_kept.Count > MostKept)
                    _kept.Clear();
                _kept[key] = (answer, now + Life);
                return answer;
            }
            catch (OperationCanceledException)
            {
                return failed($"there is no answer within {Deadline.TotalSeconds:0} seconds");
            }
            catch (DnsResponseException e)
            {
                return failed($"the server cannot be asked: {e.Message.TrimEnd('.')}");
            }
        }
    }

    private static async Task<DnsFacts> NameAsync(LookupClient client, string name, CancellationToken ct)
    {
        var chain = new List<string>();
        var at = name;
        while (true)
        {
            var (next, addresses, problem) = await StepAsync(client, at, ct);
            foreach (var alias in next)
            {
                if (alias == name || chain.Contains(alias))
                    return new(chain, [], $"its aliases lead in a circle, by {alias}");
                chain.Add(alias);
                if (chain.Count > DnsFacts.MostSteps)
                    return new([], [], $"it has more than {DnsFacts.MostSteps} aliases one after the other");
            }
            // The last alias of an answer without addresses lies in another zone: it is asked for by itself.
            if (addresses.Count > 0 || next.Count == 0)
                return addresses.Count > 0 || chain.Count == 0 ? new(chain, addresses, problem) : new(chain, [], null);
            at = chain[^1];
        }
    }

    private static async Task<(List<string> Aliases, List<string> Addresses, string? Problem)> StepAsync(
        LookupClient client,
        string name,
        CancellationToken ct
    )
    {
        var four = await client.QueryAsync(name, QueryType.A, cancellationToken: ct);
        var aliases = Aliases(four, name);
        var addresses = four.Answers.ARecords().Select(r => r.Address.ToString()).ToList();
        if (four.HasError && aliases.Count == 0)
            return (
                [],
                [],
                four.Header.ResponseCode == DnsHeaderResponseCode.NotExistentDomain
                    ? "it does not know this name"
                    : $"it answers {four.ErrorMessage}"
            );
        var six = await client.QueryAsync(name, QueryType.AAAA, cancellationToken: ct);
        addresses.AddRange(six.Answers.AaaaRecords().Select(r => r.Address.ToString()));
        return (aliases, addresses, addresses.Count == 0 && aliases.Count == 0 ? "the name has no address" : null);
    }

    /// <summary>In the order in which they lead on, whatever order the answer has them in.</summary>
    private static List<string> Aliases(IDnsQueryResponse answer, string name)
    {
        var targets = new Dictionary<string, string>();
        foreach (var r in answer.Answers.OfType<CNameRecord>())
            targets.TryAdd(Plain(r.DomainName.Value), Plain(r.CanonicalName.Value));
        var chain = new List<string>();
        while (targets.Remove(name, out var next))
        {
            chain.Add(next);
            name = next;
        }
        return chain;
    }

    private static async Task<ReverseFacts> AddressAsync(LookupClient client, string name, CancellationToken ct)
    {
        var address = IPAddress.Parse(name["ip:".Length..]);
        var answer = await client.QueryReverseAsync(address, ct);
        var names = answer.Answers.PtrRecords().Select(r => Plain(r.PtrDomainName.Value)).Distinct().Take(MostReverse).ToList();
        if (names.Count == 0)
            return new([], [], "it has no name for this address");
        var confirmed = new List<string>();
        foreach (var n in names)
            if ((await NameAsync(client, n, ct)).Addresses.Contains(address.ToString()))
                confirmed.Add(n);
        return new(names, confirmed, null);
    }

    private static string Plain(string name) => name.TrimEnd('.').ToLowerInvariant();

    private static LookupClient? Client(BeaconOptions options)
    {
        if (options.Dns is "none" || (options.Dns.Length == 0 && options.Directory.Length == 0))
            return null;
        var settings = options.Dns is "" or "system"
            ? new LookupClientOptions()
            : new LookupClientOptions([.. Servers(options.Dns).Select(e => new NameServer(e.Address, e.Port))]);
        settings.UseCache = false;
        settings.Timeout = TimeSpan.FromSeconds(1);
        settings.Retries = 1;
        settings.ThrowDnsErrors = false;
        return new(settings);
    }

    /// <summary>The servers that a setting names; none for <c>system</c>, <c>none</c> and nothing.</summary>
    /// <exception cref="BeaconProblem"><see cref="ProblemCode.InputInvalid"/>.</exception>
    internal static IReadOnlyList<IPEndPoint> Servers(string setting)
    {
        if (setting is "" or "system" or "none")
            return [];
        var words = setting.Split(',', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries);
        return words.Length > 0 ? [.. words.Select(Server)] : throw Bad(setting);
    }

    private static IPEndPoint Server(string word)
    {
        // Four parts: the platform takes "1" for an address as well.
        var isAddress =
            IPEndPoint.TryParse(word, out var e) && (e.AddressFamily == AddressFamily.InterNetworkV6 || word.Count(c => c == '.') == 3);
        return isAddress ? new(e!.Address, e.Port == 0 ? NameServer.DefaultPort : e.Port) : throw Bad(word);
    }

    private static BeaconProblem Bad(string server) =>
        new(
            ProblemCode.InputInvalid,
            $"BEACON_DNS has \"{server}\".",
            "Write addresses of DNS servers, with their port where it is not 53, separated by commas; system for those of this machine, none for no DNS."
        );
}
