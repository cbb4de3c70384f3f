//! People and their tokens, from the server's own command line.

use crate::launch::{LaunchError, open_database};
use crate::store::person;
use crate::trust::{Role, Secret};

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
    person::add_token(&mut *transaction, name, &secret.digest()).await.map_err(LaunchError::Database)?;
    transaction.commit().await.map_err(LaunchError::Database)?;
    println!("{}", secret.text());
    eprintln!("{name} is now {}; the token above is shown once and never again", words.join(", "));
    Ok(())
}
