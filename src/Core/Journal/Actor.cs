namespace OrderlyBeacon.Core.Journal;

/// <summary>What kind of somebody did something.</summary>
public enum ActorKind
{
    /// <summary>A person, by their sign-in name.</summary>
    Person,

    /// <summary>A host's agent, by the host's name.</summary>
    Agent,

    /// <summary>Whoever of a group holds the key that was shown, by the group's name.</summary>
    Group,

    /// <summary>The service itself, by the part of it that acted.</summary>
    Service,
}

/// <summary>Who did something: a kind and a name. In the journal it is one word, which reads back as the same actor, since no person can be named after a part of the service.</summary>
public readonly record struct Actor(ActorKind Kind, string Name)
{
    private const string AgentPrefix = "agent:",
        GroupPrefix = "group:";

    /// <summary>The service as such: its start, its regular work, a command given on its machine.</summary>
    public static readonly Actor System = new(ActorKind.Service, "system");

    /// <summary>The rules for requests, where they decide without a person.</summary>
    public static readonly Actor Rules = new(ActorKind.Service, "rules");

    /// <summary>The renewal of what is due.</summary>
    public static readonly Actor Renewal = new(ActorKind.Service, "renewal");

    /// <summary>An answer of the parent authority.</summary>
    public static readonly Actor Parent = new(ActorKind.Service, "parent");

    /// <summary>The door where people sign in.</summary>
    public static readonly Actor Door = new(ActorKind.Service, "service");

    private static readonly Actor[] Parts = [System, Rules, Renewal, Parent, Door];

    public static Actor Person(string name) => new(ActorKind.Person, name);

    public static Actor Agent(string host) => new(ActorKind.Agent, host);

    /// <summary>Whether no person may have this name, since it means something else in the journal.</summary>
    public static bool IsReserved(string name) => name == "agent" || Of(name).Kind != ActorKind.Person;

    /// <summary>Reads what <see cref="ToString"/> wrote.</summary>
    public static Actor Of(string word)
    {
        if (word.StartsWith(AgentPrefix, StringComparison.Ordinal))
            return Agent(word[AgentPrefix.Length..]);
        if (word.StartsWith(GroupPrefix, StringComparison.Ordinal))
            return new(ActorKind.Group, word[GroupPrefix.Length..]);
        var part = Array.Find(Parts, p => p.Name == word);
        return part.Name is null ? Person(word) : part;
    }

    /// <summary>As it stands in the journal: <c>mo</c>, <c>agent:web01.thistledown.example</c>, <c>system</c>.</summary>
    public override string ToString() =>
        Kind switch
        {
            ActorKind.Agent => AgentPrefix + Name,
            ActorKind.Group => GroupPrefix + Name,
            _ => Name,
        };
}
