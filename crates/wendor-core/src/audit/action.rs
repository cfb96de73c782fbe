//! The kinds of things that the audit tells.

use wendor_wire::worded;
worded! {
    /// A kind of thing that was done.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
    pub enum Action {
        /// The catalogue was changed.
        RevisionMade = "revision-made",
        /// The catalogue was read as a file.
        CatalogueExported = "catalogue-exported",
        /// An app's key was issued.
        KeyIssued = "key-issued",
        /// An app's key was revoked.
        KeyRevoked = "key-revoked",
        /// Somebody may sign in from now on.
        PersonAdded = "person-added",
        /// A person's role, team or being disabled was changed.
        PersonChanged = "person-changed",
        /// A person's password, codes and tokens were taken away.
        PersonReset = "person-reset",
        /// Every session and token of a person was ended.
        PersonSignedOut = "person-signed-out",
        /// A one-time sign-in was made.
        OneTimeIssued = "one-time-issued",
        /// Somebody signed in.
        SignedIn = "signed-in",
        /// A wrong password, code or link; or too many tries.
        SignInRefused = "sign-in-refused",
        /// Somebody signed in again, as themselves, to change what is guarded.
        Confirmed = "confirmed",
        /// Somebody signed out.
        SignedOut = "signed-out",
        /// Somebody chose a password, at first or anew.
        PasswordSet = "password-set",
        /// Codes of an authenticator app were set up.
        CodesSetUp = "codes-set-up",
        /// Codes of an authenticator app were taken away.
        CodesRemoved = "codes-removed",
        /// Which roles have to have codes was changed.
        CodesRequired = "codes-required",
        /// A token for programs was issued.
        TokenIssued = "token-issued",
        /// A token was ended by hand, before it expired.
        TokenEnded = "token-ended",
        /// An upstream's credential was kept.
        CredentialKept = "credential-kept",
        /// Kept credentials were moved to another secret, or bound to where they go.
        CredentialsMoved = "credentials-moved",
        /// Credentials that nothing uses were erased.
        CredentialsErased = "credentials-erased",
        /// An upstream was checked, in the catalogue or as a draft.
        UpstreamChecked = "upstream-checked",
        /// What was priced at a wrong rate was corrected.
        RatesAdjusted = "rates-adjusted",
        /// A preset was tried on a question.
        PresetTried = "preset-tried",
        /// It was looked anew what an upstream serves.
        InventoryRefreshed = "inventory-refreshed",
        /// What stood aside in the spool was tried again.
        SpoolRetried = "spool-retried",
        /// Lines of the ledger were read as a whole.
        LedgerExported = "ledger-exported",
        /// The audit was read as a whole.
        AuditExported = "audit-exported",
    }
}
