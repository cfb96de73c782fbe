//! The kinds of things that the audit tells.

/// A kind of thing that was done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Action {
    /// The catalogue was changed.
    RevisionMade,
    /// The catalogue was read as a file.
    CatalogueExported,
    /// An app's key was issued.
    KeyIssued,
    /// An app's key was revoked.
    KeyRevoked,
    /// A person was added.
    PersonAdded,
    /// A person's role, team or being disabled was changed.
    PersonChanged,
    /// A person's password, codes and tokens were taken away.
    PersonReset,
    /// Every session and token of a person was ended.
    PersonSignedOut,
    /// A one-time sign-in was made.
    OneTimeIssued,
    /// Somebody signed in.
    SignedIn,
    /// A sign-in was refused.
    SignInRefused,
    /// Somebody signed in again, as themselves, to change what is guarded.
    Confirmed,
    /// Somebody signed out.
    SignedOut,
    /// A password was set.
    PasswordSet,
    /// Codes of an authenticator app were set up.
    CodesSetUp,
    /// Codes of an authenticator app were taken away.
    CodesRemoved,
    /// Which roles have to have codes was changed.
    CodesRequired,
    /// A token for programs was issued.
    TokenIssued,
    /// A token was ended.
    TokenEnded,
    /// An upstream's credential was kept.
    CredentialKept,
    /// Kept credentials were moved to another secret, or bound to where they go.
    CredentialsMoved,
    /// Credentials that nothing uses were erased.
    CredentialsErased,
    /// An upstream was checked, in the catalogue or as a draft.
    UpstreamChecked,
    /// It was looked anew what an upstream serves.
    InventoryRefreshed,
    /// What stood aside in the spool was tried again.
    SpoolRetried,
    /// The audit was read as a whole.
    AuditExported,
}

impl Action {
    /// Every one, in the order in which they are told.
    pub const ALL: [Self; 26] = [
        Self::RevisionMade,
        Self::CatalogueExported,
        Self::KeyIssued,
        Self::KeyRevoked,
        Self::PersonAdded,
        Self::PersonChanged,
        Self::PersonReset,
        Self::PersonSignedOut,
        Self::OneTimeIssued,
        Self::SignedIn,
        Self::SignInRefused,
        Self::Confirmed,
        Self::SignedOut,
        Self::PasswordSet,
        Self::CodesSetUp,
        Self::CodesRemoved,
        Self::CodesRequired,
        Self::TokenIssued,
        Self::TokenEnded,
        Self::CredentialKept,
        Self::CredentialsMoved,
        Self::CredentialsErased,
        Self::UpstreamChecked,
        Self::InventoryRefreshed,
        Self::SpoolRetried,
        Self::AuditExported,
    ];

    /// Its word.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::RevisionMade => "revision-made",
            Self::CatalogueExported => "catalogue-exported",
            Self::KeyIssued => "key-issued",
            Self::KeyRevoked => "key-revoked",
            Self::PersonAdded => "person-added",
            Self::PersonChanged => "person-changed",
            Self::PersonReset => "person-reset",
            Self::PersonSignedOut => "person-signed-out",
            Self::OneTimeIssued => "one-time-issued",
            Self::SignedIn => "signed-in",
            Self::SignInRefused => "sign-in-refused",
            Self::Confirmed => "confirmed",
            Self::SignedOut => "signed-out",
            Self::PasswordSet => "password-set",
            Self::CodesSetUp => "codes-set-up",
            Self::CodesRemoved => "codes-removed",
            Self::CodesRequired => "codes-required",
            Self::TokenIssued => "token-issued",
            Self::TokenEnded => "token-ended",
            Self::CredentialKept => "credential-kept",
            Self::CredentialsMoved => "credentials-moved",
            Self::CredentialsErased => "credentials-erased",
            Self::UpstreamChecked => "upstream-checked",
            Self::InventoryRefreshed => "inventory-refreshed",
            Self::SpoolRetried => "spool-retried",
            Self::AuditExported => "audit-exported",
        }
    }

    /// The action of that word.
    #[must_use]
    pub fn parse(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|action| action.as_str() == word)
    }
}
