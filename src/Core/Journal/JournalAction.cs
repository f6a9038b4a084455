using System.Text.Json;

namespace OrderlyBeacon.Core.Journal;

/// <summary>What is noted in the journal. It is written as the noun, a dot and what happened to it: <c>request.approval-dropped</c>; in the chain of hashes it is that word that counts.</summary>
public enum JournalAction
{
    /// <summary>Somebody tried what they may not do to a thing that is there.</summary>
    AttemptRefused,

    /// <summary>A parent's answer was installed: a generation is published.</summary>
    AuthorityAnswered,

    /// <summary>The issuing authority's CSR was made for a parent to answer.</summary>
    AuthorityAsked,

    /// <summary>An authority was made with its key.</summary>
    AuthorityFounded,

    /// <summary>A parent Orderly Beacon was sent the CSR.</summary>
    AuthorityParentAsked,

    /// <summary>A parent Orderly Beacon told how the request stands there.</summary>
    AuthorityParentSaid,

    /// <summary>A new generation of an authority was begun.</summary>
    AuthorityRenewalBegun,

    /// <summary>A generation that was not in use yet was taken back.</summary>
    AuthorityRenewalUndone,

    /// <summary>A further certificate of the root was taken in.</summary>
    AuthorityRootRenewed,

    /// <summary>A generation began to issue.</summary>
    AuthorityTakenUp,

    /// <summary>An agent was ordered to put a certificate into a service.</summary>
    BindingOrdered,

    /// <summary>An order for a certificate failed.</summary>
    CertificateFailed,

    /// <summary>A certificate has another owner.</summary>
    CertificateGiven,

    /// <summary>Services serve a certificate's new edition.</summary>
    CertificateServing,

    /// <summary>An edition lies in its host's store; no service uses it.</summary>
    CertificateStored,

    /// <summary>Something waits for a second administrator.</summary>
    ConsentAsked,

    /// <summary>A second administrator consented.</summary>
    ConsentGiven,

    /// <summary>What was consented to was done.</summary>
    ConsentUsed,

    /// <summary>CRLs of the issuing authority were issued.</summary>
    CrlIssued,

    /// <summary>A CRL of the root was brought and published.</summary>
    CrlPublished,

    /// <summary>An agent was told how to get into a device.</summary>
    DeviceKept,

    /// <summary>An edition of an authority that is not ours was put on record.</summary>
    EditionBrought,

    /// <summary>An edition was put on hold.</summary>
    EditionHeld,

    /// <summary>An edition was issued.</summary>
    EditionIssued,

    /// <summary>An edition was written to its computer's object in the directory, or could not be.</summary>
    EditionPublished,

    /// <summary>A hold was released.</summary>
    EditionReleased,

    /// <summary>An edition was revoked.</summary>
    EditionRevoked,

    /// <summary>A host has another owner.</summary>
    HostGiven,

    /// <summary>A host was invited: it has a code to join with.</summary>
    HostInvited,

    /// <summary>A host's agent joined.</summary>
    HostJoined,

    /// <summary>An agent was ordered to be met at an address of its host.</summary>
    HostMeetingOrdered,

    /// <summary>A host's agent was met at an address: the address is its own.</summary>
    HostMet,

    /// <summary>A host was removed.</summary>
    HostRemoved,

    /// <summary>An authority that is not ours may be asked no more.</summary>
    OutsideForgotten,

    /// <summary>An authority that is not ours may be asked, or what is known of it was changed.</summary>
    OutsideKept,

    /// <summary>A person may sign in.</summary>
    PersonAdded,

    /// <summary>A person may not sign in any more.</summary>
    PersonLeft,

    /// <summary>A person changed their own password.</summary>
    PersonPasswordChanged,

    /// <summary>An administrator set a person's password.</summary>
    PersonPasswordSet,

    /// <summary>A person is in other groups.</summary>
    PersonRegrouped,

    /// <summary>Sign-ins with wrong passwords, counted.</summary>
    PersonSignInRefused,

    /// <summary>A person signed in.</summary>
    PersonSignedIn,

    /// <summary>A person need not wait any more after wrong passwords.</summary>
    PersonUnlocked,

    /// <summary>When and how a certificate is renewed was changed.</summary>
    PolicyChanged,

    /// <summary>A profile was made.</summary>
    ProfileMade,

    /// <summary>A profile may be requested again.</summary>
    ProfileOffered,

    /// <summary>A profile has a new revision.</summary>
    ProfileRevised,

    /// <summary>A profile may not be requested any more.</summary>
    ProfileWithdrawn,

    /// <summary>An agent was ordered to renew a certificate.</summary>
    RenewalOrdered,

    /// <summary>A renewal was refused by the rules.</summary>
    RenewalRefused,

    /// <summary>An agent was ordered once more to put a renewed edition in place.</summary>
    RenewalTriedAgain,

    /// <summary>A renewal waits for approval.</summary>
    RenewalWaits,

    /// <summary>A request's names were changed before its approval.</summary>
    RequestAmended,

    /// <summary>An approval does not count any more.</summary>
    RequestApprovalDropped,

    /// <summary>Somebody approved a request.</summary>
    RequestApproved,

    /// <summary>A request was withdrawn, since the service was stopped before it could answer.</summary>
    RequestCutOff,

    /// <summary>A request was refused.</summary>
    RequestRefused,

    /// <summary>An answer came from outside that differs from what was asked.</summary>
    RequestHeld,

    /// <summary>A certificate was requested.</summary>
    RequestSubmitted,

    /// <summary>A granted request waits, for example for the authority's key.</summary>
    RequestWaits,

    /// <summary>A request was withdrawn by who asked.</summary>
    RequestWithdrawn,

    /// <summary>Somebody had a provider of a federation take a step back.</summary>
    FederationBack,

    /// <summary>Somebody said which certificate a provider signs with.</summary>
    FederationChosen,

    /// <summary>A provider has taken a step.</summary>
    FederationDone,

    /// <summary>A provider's step failed; what its partners get is as it was.</summary>
    FederationFailed,

    /// <summary>An agent found a provider.</summary>
    FederationFound,

    /// <summary>A provider is not there any more.</summary>
    FederationGone,

    /// <summary>Somebody has a provider go on without waiting for its partners.</summary>
    FederationHurried,

    /// <summary>A partner has fetched what a provider publishes.</summary>
    FederationLearnt,

    /// <summary>A provider was told to take a step.</summary>
    FederationOrdered,

    /// <summary>Somebody said something of a partner.</summary>
    FederationSaid,

    /// <summary>The records of a certificate's next key were added to DNS.</summary>
    RolloverAdded,

    /// <summary>A certificate's next key was made; TLSA records speak of it before it is used.</summary>
    RolloverBegun,

    /// <summary>A key that was prepared will not be used.</summary>
    RolloverDropped,

    /// <summary>DNS speaks of the keys in use alone.</summary>
    RolloverEnded,

    /// <summary>Records of keys that are used no more were removed from DNS.</summary>
    RolloverRemoved,

    /// <summary>Somebody had a next key put in without waiting for DNS.</summary>
    RolloverSkipped,

    /// <summary>A next key's records are in DNS; what others have kept of the set before is waited out.</summary>
    RolloverWaits,

    /// <summary>A backup was made.</summary>
    ServiceBackedUp,

    /// <summary>A service may be used without TLS again.</summary>
    ServiceClearTextAllowed,

    /// <summary>An agent was ordered to let clients use a service without TLS again.</summary>
    ServiceClearTextOrdered,

    /// <summary>An agent found a service on its host.</summary>
    ServiceFound,

    /// <summary>A service is not in its server's configuration any more.</summary>
    ServiceGone,

    /// <summary>The service was restored from a backup.</summary>
    ServiceRestored,

    /// <summary>An agent was ordered to end the use of a service without TLS.</summary>
    ServiceTlsOrdered,

    /// <summary>A service takes no version of TLS below one: its agent asked it afterwards.</summary>
    ServiceTlsRaised,

    /// <summary>An agent was ordered to raise the lowest version of TLS that a service takes.</summary>
    ServiceTlsRaiseOrdered,

    /// <summary>A service is used by TLS alone: its agent tried it without, and was refused.</summary>
    ServiceTlsRequired,

    /// <summary>A service is as it was before it was bound.</summary>
    ServiceUnbound,

    /// <summary>An entry of a host's store was ordered to be laid aside.</summary>
    StoreArchived,

    /// <summary>A certificate was given out of a host's store.</summary>
    StoreExported,

    /// <summary>Something was sent into a host's store.</summary>
    StoreImported,

    /// <summary>A private key was given out of a host's store.</summary>
    StoreKeyReleased,

    /// <summary>An entry of a host's store was ordered to have another label.</summary>
    StoreRelabelled,

    /// <summary>An entry of a host's store was ordered to be deleted with its key.</summary>
    StoreRemoved,

    /// <summary>An entry of a host's store was ordered out of the archive.</summary>
    StoreRestored,

    /// <summary>A look over networks was started.</summary>
    SweepStarted,

    /// <summary>A look over networks was stopped by a person.</summary>
    SweepStopped,

    /// <summary>An agent changed a trust store.</summary>
    TrustChanged,

    /// <summary>Trust stores were ordered to distrust an anchor that they have.</summary>
    TrustEnded,

    /// <summary>An agent could not change a trust store: it is as it was.</summary>
    TrustFailed,

    /// <summary>Trust stores were ordered to trust an anchor.</summary>
    TrustPushed,

    /// <summary>Trust stores were ordered to trust an anchor again that they had been told to distrust.</summary>
    TrustRestored,

    /// <summary>Trust stores were ordered to give up an anchor that was pushed to them.</summary>
    TrustWithdrawn,

    /// <summary>An agent was ordered to put a service back as it was before it was bound.</summary>
    UnbindingOrdered,
}

public static class JournalActions
{
    private static readonly Dictionary<JournalAction, string> Words = Enum.GetValues<JournalAction>().ToDictionary(a => a, WordFor);

    public static string Word(this JournalAction action) => Words[action];

    private static string WordFor(JournalAction action)
    {
        var word = JsonNamingPolicy.KebabCaseLower.ConvertName(action.ToString());
        var noun = word.IndexOf('-', StringComparison.Ordinal);
        return $"{word[..noun]}.{word[(noun + 1)..]}";
    }
}
