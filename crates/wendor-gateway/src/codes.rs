//! One-time codes of authenticator apps (TOTP, RFC 6238: SHA-1, six digits, 30 s, as every such app takes them) and recovery codes.

use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;
use chrono::{DateTime, Utc};
use qrcode::{Color, EcLevel, QrCode};
use rand::RngExt;
use sha2::{Digest, Sha256};
use totp_rs::{Algorithm, TOTP};
use wendor_core::audit::Doer;
use wendor_core::base32;
use wendor_core::secret::Secret;
use wendor_store::codes::NewCodes;
use wendor_store::{Store, StoreError};

use crate::credentials::KeptAnew;
use crate::vault::{Bound, Vault, VaultError};

/// Bytes that codes are made of: as RFC 4226, section 4, R6, recommends.
const SEED: usize = 20;

/// How long a code is shown, in seconds.
const STEP: u64 = 30;

/// Digits of a code.
const DIGITS: usize = 6;

/// Codes of the step before and after are taken too: clocks differ.
const STEPS_OFF: i64 = 1;

/// Recovery codes that are given at once.
const RECOVERY_CODES: usize = 10;

/// Bytes of a recovery code; more than can be tried.
const RECOVERY_BYTES: usize = 10;

/// What an app is set up by.
#[derive(Debug)]
pub struct Setup {
    /// As text, for whoever types it.
    pub secret: String,
    /// As an `otpauth:` address.
    pub address: String,
    /// The address as a square of dark (`1`) and light (`0`) fields, by rows.
    pub picture: Vec<String>,
}

/// What a person's codes are bound to. No upstream is called so.
#[must_use]
pub fn bound(person: &str) -> Bound<'_> {
    Bound { id: person, upstream: "", host: "" }
}

fn totp(seed: &[u8], person: &str) -> Option<TOTP> {
    TOTP::new(Algorithm::SHA1, DIGITS, 0, STEP, seed.to_vec(), Some("Wendor".to_owned()), person.to_owned()).ok()
}

/// Draws what the codes of a person are made of.
#[must_use]
pub fn draw() -> [u8; SEED] {
    rand::rng().random()
}

/// What an app is set up by. Nothing where the name does not fit into an address.
#[must_use]
pub fn setup(seed: &[u8], person: &str) -> Option<Setup> {
    let totp = totp(seed, person)?;
    let address = totp.get_url();
    let code = QrCode::with_error_correction_level(&address, EcLevel::M).ok()?;
    let fields: Vec<char> =
        code.to_colors().iter().map(|field| if *field == Color::Dark { '1' } else { '0' }).collect();
    let picture = fields.chunks(code.width()).map(|row| row.iter().collect()).collect();
    Some(Setup { secret: totp.get_secret_base32(), address, picture })
}

/// The step whose code this is, at `now`.
#[must_use]
pub fn step_of(seed: &[u8], code: &str, now: DateTime<Utc>) -> Option<i64> {
    let totp = totp(seed, "")?;
    let code: String = code.chars().filter(|letter| !letter.is_whitespace()).collect();
    let step = now.timestamp().div_euclid(i64::try_from(STEP).ok()?);
    let is_code = |step: &i64| u64::try_from(*step).is_ok_and(|step| totp.generate(step * STEP) == code);
    (step - STEPS_OFF..=step + STEPS_OFF).rev().find(is_code)
}

/// What is kept of a seed.
///
/// # Errors
/// [`VaultError`] when the service has no secret.
pub fn seal(vault: &Vault, person: &str, seed: &[u8]) -> Result<Vec<u8>, VaultError> {
    vault.seal(bound(person), &Secret::new(BASE64.encode(seed)), rand::rng().random())
}

/// The seed that was kept so.
///
/// # Errors
/// [`VaultError`] when neither secret opens it.
pub fn open(vault: &Vault, person: &str, sealed: &[u8]) -> Result<Vec<u8>, VaultError> {
    let text = vault.open(bound(person), sealed)?;
    BASE64.decode(text.expose()).map_err(|_| VaultError::OtherSecret)
}

/// Recovery codes with what is kept of each.
#[must_use]
pub fn recovery_codes() -> (Vec<String>, Vec<[u8; 32]>) {
    let code = |_| {
        let bytes: [u8; RECOVERY_BYTES] = rand::rng().random();
        let text = base32::of_bytes(&bytes);
        let (left, right) = text.split_at(text.len() / 2);
        format!("{left}-{right}")
    };
    let codes: Vec<String> = (0..RECOVERY_CODES).map(code).collect();
    let hashes = codes.iter().map(|code| recovery_hash(code)).collect();
    (codes, hashes)
}

/// What is kept of a recovery code: it is drawn and long, so that a plain hash does.
#[must_use]
pub fn recovery_hash(code: &str) -> [u8; 32] {
    let plain: String =
        code.chars().filter(char::is_ascii_alphanumeric).map(|letter| letter.to_ascii_lowercase()).collect();
    Sha256::digest(plain.as_bytes()).into()
}

/// Moves everybody's codes to the secret in force.
///
/// # Errors
/// When the database is away.
pub async fn keep_anew(store: &Store, vault: &Vault, doer: &Doer) -> Result<KeptAnew, StoreError> {
    let mut came = KeptAnew::default();
    let Some(mark) = vault.mark() else { return Ok(came) };
    for (person, sealed, kept_under) in store.all_codes().await? {
        if kept_under.as_deref() == Some(mark) {
            came.done += 1;
            continue;
        }
        let anew = open(vault, &person, &sealed).and_then(|seed| seal(vault, &person, &seed));
        let Ok(anew) = anew else {
            came.unreadable += 1;
            continue;
        };
        store.reseal_codes(&person, &sealed, &NewCodes { sealed: &anew, kept_under: mark }, doer).await?;
        came.done += 1;
    }
    Ok(came)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// RFC 6238, appendix B, of its last six digits.
    #[rstest]
    #[case(59, "287082")]
    #[case(1_111_111_109, "081804")]
    #[case(1_234_567_890, "005924")]
    #[case(20_000_000_000, "353130")]
    fn codes_are_those_of_the_standard(#[case] seconds: i64, #[case] code: &str) {
        let seed = b"12345678901234567890";
        let at = |seconds: i64| DateTime::from_timestamp(seconds, 0).unwrap();
        let step = seconds / 30;
        assert_eq!(step_of(seed, code, at(seconds)), Some(step));
        assert_eq!(step_of(seed, &format!("{} {}", &code[..3], &code[3..]), at(seconds + 30)), Some(step));
        assert_eq!(step_of(seed, code, at(seconds + 90)), None);
    }

    #[test]
    fn a_seed_is_kept_for_its_person_alone() {
        let vault = Vault::of(Some(&Secret::new("a secret of thirty-two characters".to_owned())), None);
        let seed = draw();
        let sealed = seal(&vault, "clerk", &seed).unwrap();
        assert_eq!(open(&vault, "clerk", &sealed).unwrap(), seed);
        assert!(open(&vault, "lookout", &sealed).is_err());
    }

    #[test]
    fn an_app_is_set_up_by_a_square() {
        let setup = setup(&draw(), "clerk").unwrap();
        assert!(setup.address.starts_with("otpauth://totp/Wendor:clerk?secret="), "{}", setup.address);
        assert!(setup.picture.iter().all(|row| row.len() == setup.picture.len()));
    }

    #[test]
    fn recovery_codes_are_typed_as_people_type() {
        let (codes, hashes) = recovery_codes();
        assert_eq!((codes.len(), hashes.len()), (10, 10));
        assert_eq!(recovery_hash(&codes[0].to_uppercase().replace('-', " ")), hashes[0]);
        assert_ne!(hashes[0], hashes[1]);
    }
}
