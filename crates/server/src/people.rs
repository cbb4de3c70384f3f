//! People, their tokens and one-time links, from the server's own command line.

use crate::launch::{LaunchError, open_database};
use crate::store::person;
use crate::trust::{Role, Secret};
use sqlx::PgConnection;

/// Gives a person roles and prints a new token for them.
///
/// # Errors
///
/// Returns why the database cannot be used.
pub async fn print_token(database: &str, name: &str, roles: &[Role]) -> Result<(), LaunchError> {
    let db = open_database(database).await?;
    let secret = Secret::make().map_err(LaunchError::Random)?;
    let words: Vec<&str> = roles.iter().map(|role| role.word()).collect();
    let mut transaction = db.begin().await.map_err(LaunchError::Database)?;
    person::give_roles(&mut *transaction, name, &words).await.map_err(LaunchError::Database)?;
    person::add_token(&mut *transaction, name, &secret.digest(), "program", None).await.map_err(LaunchError::Database)?;
    transaction.commit().await.map_err(LaunchError::Database)?;
    println!("{}", secret.text());
    eprintln!("{name} is now {}; the token above is shown once and never again", words.join(", "));
    Ok(())
}

/// How long a one-time link holds, in hours.
const LINK_HOURS: i32 = 24;

/// Makes a one-time link for a person, who is given these roles if any are named.
///
/// # Errors
///
/// Returns why the database cannot be used, or that nobody is called so.
pub async fn print_link(database: &str, url: &str, name: &str, roles: &[Role]) -> Result<(), LaunchError> {
    let db = open_database(database).await?;
    let secret = Secret::make().map_err(LaunchError::Random)?;
    let mut transaction = db.begin().await.map_err(LaunchError::Database)?;
    if !roles.is_empty() {
        let words: Vec<&str> = roles.iter().map(|role| role.word()).collect();
        person::give_roles(&mut *transaction, name, &words).await.map_err(LaunchError::Database)?;
    } else if person::roles(&mut *transaction, name).await.map_err(LaunchError::Database)?.is_none() {
        return Err(LaunchError::NoPerson(name.to_owned()));
    }
    person::add_link(&mut transaction, Some(name), &secret.digest(), LINK_HOURS).await.map_err(LaunchError::Database)?;
    transaction.commit().await.map_err(LaunchError::Database)?;
    println!("{}", link(url, &secret));
    eprintln!("{name} signs in by it once within {LINK_HOURS} hours, and chooses a password");
    Ok(())
}

/// Makes the link of the first administrator while there is none; it is written to the log once.
///
/// # Errors
///
/// Returns why the database cannot be used.
pub async fn welcome_first(db: &mut PgConnection, url: &str) -> Result<(), LaunchError> {
    if person::has_administrator(&mut *db).await.map_err(LaunchError::Database)? {
        return Ok(());
    }
    let secret = Secret::make().map_err(LaunchError::Random)?;
    person::add_link(db, None, &secret.digest(), LINK_HOURS).await.map_err(LaunchError::Database)?;
    eprintln!("There is no administrator yet. Whoever opens this link first, within {LINK_HOURS} hours, becomes it:\n  {}", link(url, &secret));
    Ok(())
}

/// The secret stands behind `#`, which browsers send to nobody.
fn link(url: &str, secret: &Secret) -> String {
    format!("{}/welcome#{}", url.trim_end_matches('/'), secret.text())
}
