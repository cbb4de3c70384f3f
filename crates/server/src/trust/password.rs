//! Passwords, by argon2id with the parameters that its RFC (9106) and the crate recommend.

use argon2::Argon2;
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher as _, PasswordVerifier as _};
use tokio::sync::{Semaphore, SemaphorePermit};

/// The shortest password that is accepted, in characters.
pub const SHORTEST: usize = 12;
/// The longest password that is read, in bytes.
pub const LONGEST: usize = 1_024;

/// Each takes tens of milliseconds of a processor and 19 MiB: more at once would be a way to stop the server.
static AT_ONCE: Semaphore = Semaphore::const_new(2);

/// A hash that no password has: verifying against it takes as long as against any other.
const NOBODYS: &str =
    "$argon2id$v=19$m=19456,t=2,p=1$c2tlcnJ5bGluZXNrZXJyeQ$2FMk0Q0g7H9wGwVlyXqVnGWTuGRjY1yNxS1d2cIoDdM";

/// Says what is wrong with a new password.
pub fn refusal(person: &str, password: &str) -> Option<String> {
    if password.chars().count() < SHORTEST {
        return Some(format!("a password has at least {SHORTEST} characters"));
    }
    if password.len() > LONGEST {
        return Some(format!("a password has at most {LONGEST} bytes"));
    }
    let lower = password.to_lowercase();
    if person.split('.').any(|part| part.len() > 2 && lower.contains(part)) || lower.contains("constans") {
        return Some("a password holds neither the person's name nor `constans`".to_owned());
    }
    let mut letters: Vec<char> = lower.chars().collect();
    letters.sort_unstable();
    letters.dedup();
    (letters.len() < 5).then(|| "a password has at least 5 different characters".to_owned())
}

/// Waits until few enough others are hashing.
pub async fn turn() -> Option<SemaphorePermit<'static>> {
    AT_ONCE.acquire().await.ok()
}

/// Returns the hash of a new password.
pub async fn hash(password: String) -> Option<String> {
    let _turn = turn().await;
    let made = tokio::task::spawn_blocking(move || {
        Argon2::default().hash_password(password.as_bytes()).map(|hash: PasswordHash| hash.to_string()).ok()
    });
    made.await.ok().flatten()
}

/// Returns whether a password is the one of this hash. Without a hash it takes as long and is not. The caller waits for its
/// [`turn`] first.
pub async fn is_right(password: String, hash: Option<String>) -> bool {
    let checked = tokio::task::spawn_blocking(move || {
        let is_somebodys = hash.is_some();
        let fits = Argon2::default()
            .verify_password(password.as_bytes(), hash.as_deref().unwrap_or(NOBODYS))
            .is_ok();
        fits && is_somebodys
    });
    checked.await.unwrap_or(false)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_password_fits_its_own_hash_and_nothing_fits_none() {
        let hash = hash("herring under the pier".to_owned()).await.unwrap();
        assert!(hash.starts_with("$argon2id$"), "{hash}");
        assert!(is_right("herring under the pier".to_owned(), Some(hash.clone())).await);
        assert!(!is_right("herring under the peer".to_owned(), Some(hash)).await);
        assert!(!is_right("herring under the pier".to_owned(), None).await);
        assert!(NOBODYS.parse::<PasswordHash>().is_ok(), "else verifying against it would be quicker");
    }

    #[test]
    fn weak_passwords_are_refused_with_the_reason() {
        for (password, expected) in [
            ("short", Some("a password has at least 12 characters")),
            ("my-name-is-Ilse-1", Some("a password holds neither the person's name nor `constans`")),
            ("abababababab", Some("a password has at least 5 different characters")),
            ("herring under the pier", None),
        ] {
            assert_eq!(refusal("ilse.maren", password).as_deref(), expected, "{password}");
        }
    }
}
