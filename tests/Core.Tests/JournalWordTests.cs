using OrderlyBeacon.Core.Journal;

namespace OrderlyBeacon.Core.Tests;

/// <summary>Words of the journal: they are hashed, so they must read back as what wrote them and never change.</summary>
public sealed class JournalWordTests
{
    [Theory]
    [InlineData(JournalAction.RequestApprovalDropped, "request.approval-dropped")]
    [InlineData(JournalAction.CrlIssued, "crl.issued")]
    [InlineData(JournalAction.PersonSignInRefused, "person.sign-in-refused")]
    [InlineData(JournalAction.AuthorityTakenUp, "authority.taken-up")]
    public void An_action_is_a_noun_and_what_happened_to_it(JournalAction action, string word) => Assert.Equal(word, action.Word());

    [Fact]
    public void No_two_actions_share_a_word()
    {
        var words = Enum.GetValues<JournalAction>().Select(a => a.Word()).ToList();
        Assert.Equal(words.Count, words.Distinct().Count());
        Assert.All(words, w => Assert.Matches("^[a-z]+\\.[a-z]+(-[a-z]+)*$", w));
    }

    [Theory]
    [InlineData("mo", ActorKind.Person, "mo")]
    [InlineData("agent:web01.thistledown.example", ActorKind.Agent, "web01.thistledown.example")]
    [InlineData("group:web", ActorKind.Group, "web")]
    [InlineData("system", ActorKind.Service, "system")]
    [InlineData("rules", ActorKind.Service, "rules")]
    public void An_actor_reads_back_as_itself(string word, ActorKind kind, string name)
    {
        var actor = Actor.Of(word);
        Assert.Equal((kind, name), (actor.Kind, actor.Name));
        Assert.Equal(word, actor.ToString());
    }

    [Theory]
    [InlineData("system")]
    [InlineData("agent")]
    [InlineData("agent:web01")]
    [InlineData("group:web")]
    [InlineData("renewal")]
    public void Nobody_is_named_after_a_part_of_the_service(string name) => Assert.True(Actor.IsReserved(name));

    [Fact]
    public void People_have_names_of_their_own() => Assert.False(Actor.IsReserved("robin"));
}
