//! Passwords: what they must be, how they are kept, and whether one is right.

use argon2::password_hash::phc::PasswordHash;
use argon2::{Argon2, PasswordHasher, PasswordVerifier};

use super::problem::Problem;
use crate::app::App;

/// Shortest password.
const PASSWORD_LENGTH: usize = 12;

/// Longest: what is hashed and looked at is bounded.
const LONGEST_PASSWORD: usize = 200;

/// Whether a password is long, and none of those that are tried first.
pub(super) fn is_hard_to_guess(password: &str, name: &str) -> Result<(), String> {
    if password.chars().count() < PASSWORD_LENGTH {
        return Err(format!("must have at least {PASSWORD_LENGTH} characters"));
    }
    if password.chars().count() > LONGEST_PASSWORD {
        return Err(format!("must have at most {LONGEST_PASSWORD} characters"));
    }
    let guessed = zxcvbn::zxcvbn(password, &[name, "wendor"]);
    if guessed.score() < zxcvbn::Score::Two {
        return Err("is among the first that are guessed; take several words that have nothing to do with each other"
            .to_owned());
    }
    Ok(())
}

/// What is kept of a password.
pub(super) async fn hashed(app: &App, password: String) -> Result<String, Problem> {
    let _place = place_to_hash(app)?;
    let hash = move || Argon2::default().hash_password(password.as_bytes()).map(|hash| hash.to_string());
    app.behind.compute(hash).await.map_err(|_| Problem::Internal)
}

/// Goes on only if this is the password of that person.
pub(super) async fn with_password(app: &App, name: &str, password: String) -> Result<(), Problem> {
    let stored = app.store.password_hash(name).await?;
    // Hashing takes some 40 ms of a core: never on a worker, nor before one. Someone unknown costs as much as someone known.
    let _place = place_to_hash(app)?;
    let is_right = app
        .behind
        .compute(move || match stored.as_deref().map(PasswordHash::new) {
            Some(Ok(hash)) => Argon2::default().verify_password(password.as_bytes(), &hash).is_ok(),
            Some(Err(_)) | None => {
                let _same_time = Argon2::default().hash_password(password.as_bytes());
                false
            }
        })
        .await;
    let wrong = || Problem::NotSignedIn("no person has this name and password".to_owned());
    is_right.then_some(()).ok_or_else(wrong)
}

/// Hashing takes megabytes and a core: so many at once, and no queue, which anybody could make long.
fn place_to_hash(app: &App) -> Result<tokio::sync::SemaphorePermit<'_>, Problem> {
    app.sign_ins.hashing.try_acquire().map_err(|_| {
        Problem::TooMany("too many people sign in at this moment; try again in a few seconds".to_owned(), 2)
    })
}
