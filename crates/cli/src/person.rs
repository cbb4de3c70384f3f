//! `constans person` and `constans token`.

use crate::error::ClientError;
use crate::invitation::duration;
use crate::server::{ListArguments, Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_terminal::{count, harmless};
use constans_wire::people::{Granted, MadeToken, NewToken, Person, RefusedRequest, RemovedPerson, Token};
use jiff::Timestamp;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};

/// Arguments of `person`.
#[derive(Debug, Args)]
pub struct PersonArguments {
    #[command(subcommand)]
    command: PersonCommand,
}

#[derive(Debug, Subcommand)]
enum PersonCommand {
    /// List persons: roles, sessions, tokens, last sign-in
    List {
        #[command(flatten)]
        server: ServerArguments,
        #[command(flatten)]
        which: ListArguments,
    },
    /// Grant a person one more role
    Grant {
        #[command(flatten)]
        server: ServerArguments,
        /// The person
        person: String,
        /// The role: reader, operator, publisher, approver or administrator
        role: String,
        /// Only for the nodes of this group; for operator and approver
        #[arg(long, value_name = "GROUP")]
        group: Option<String>,
    },
    /// Take one role from a person
    Take {
        #[command(flatten)]
        server: ServerArguments,
        /// The person
        person: String,
        /// The role
        role: String,
        /// The group for whose nodes it is held
        #[arg(long, value_name = "GROUP")]
        group: Option<String>,
    },
    /// Remove a person: roles, sessions, tokens and open invitations end; the audit trail stays
    Remove {
        #[command(flatten)]
        server: ServerArguments,
        /// The person
        person: String,
    },
}

/// Arguments of `refusal`.
#[derive(Debug, Args)]
pub struct RefusalArguments {
    #[command(subcommand)]
    command: RefusalCommand,
}

#[derive(Debug, Subcommand)]
enum RefusalCommand {
    /// List recently refused requests: caller, address, reason, count
    List {
        #[command(flatten)]
        server: ServerArguments,
    },
}

/// Lists what was refused.
pub async fn refusal(arguments: &RefusalArguments) -> Result<(), ClientError> {
    let RefusalCommand::List { server } = &arguments.command;
    let server = Server::open(server)?;
    let refused: Vec<RefusedRequest> = server.get_all("/api/refused-requests").await?;
    if server.says_json(&refused) {
        return Ok(());
    }
    if refused.is_empty() {
        println!("no refused requests in the last 90 days");
    }
    for row in &refused {
        let who = match (&row.person, &row.node) {
            (Some(person), _) => harmless(person).to_string(),
            (None, Some(node)) => format!("the node {}", harmless(node)),
            (None, None) => "a stranger".to_owned(),
        };
        let since = if row.times == 1 {
            String::new()
        } else {
            format!(", {} times since {}", row.times, minute(row.first_at))
        };
        println!(
            "{}  {who} from {}: {}  {}{since}",
            minute(row.last_at),
            row.from_where,
            harmless(&row.what),
            row.status
        );
    }
    Ok(())
}

/// Arguments of `token`.
#[derive(Debug, Args)]
pub struct TokenArguments {
    #[command(subcommand)]
    command: TokenCommand,
}

#[derive(Debug, Subcommand)]
enum TokenCommand {
    /// List your tokens, or all tokens if you manage people
    List {
        #[command(flatten)]
        server: ServerArguments,
        #[command(flatten)]
        which: ListArguments,
    },
    /// Create a token for a program; it is shown only once
    Make {
        #[command(flatten)]
        server: ServerArguments,
        /// The person on whose behalf the program acts
        #[arg(long)]
        person: String,
        /// The name of the token
        #[arg(long)]
        name: String,
        /// Validity, for example 90d
        #[arg(long = "for", value_name = "TIME", default_value = "365d", value_parser = duration)]
        for_secs: u64,
    },
    /// Withdraw a token: it is refused from now on
    Withdraw {
        #[command(flatten)]
        server: ServerArguments,
        /// The id, or the name if it is unique
        #[arg(value_name = "TOKEN")]
        which: String,
    },
}

/// Lists or changes persons.
pub async fn person(arguments: &PersonArguments) -> Result<(), ClientError> {
    match &arguments.command {
        PersonCommand::List { server, which } => list_people(&Server::open(server)?, which).await,
        PersonCommand::Grant { server, person, role, group } => {
            let server = Server::open(server)?;
            let granted: Granted = server.put(&role_path(person, role, group.as_deref()), &()).await?;
            if !server.says_json(&granted) {
                println!("{}", granted.words(person, &role_words(&held(role, group.as_deref()))));
                if granted == Granted::NewPerson {
                    println!(
                        "Next: constans-server link --person {person} --url {} creates the sign-in link",
                        server.url()
                    );
                }
            }
            Ok(())
        }
        PersonCommand::Take { server, person, role, group } => {
            let server = Server::open(server)?;
            let was_held: bool = server.delete(&role_path(person, role, group.as_deref())).await?;
            if !server.says_json(&was_held) {
                let role = role_words(&held(role, group.as_deref()));
                println!("{} is no longer {role}", harmless(person));
            }
            Ok(())
        }
        PersonCommand::Remove { server, person } => {
            let server = Server::open(server)?;
            let removed: RemovedPerson = server.delete(&format!("/api/people/{}", word(person))).await?;
            if !server.says_json(&removed) {
                println!(
                    "{person} was removed; ended: {}, {}, {}",
                    counted(removed.sessions, "session", "sessions"),
                    counted(removed.tokens, "token", "tokens"),
                    counted(removed.invitations, "open invitation", "open invitations"),
                );
            }
            Ok(())
        }
    }
}

fn word(text: &str) -> String {
    utf8_percent_encode(text, NON_ALPHANUMERIC).to_string()
}

fn role_path(person: &str, role: &str, group: Option<&str>) -> String {
    format!("/api/people/{}/roles/{}", word(person), word(&held(role, group)))
}

/// A role as it is written: `operator`, or `operator@kiosks` for the nodes of one group.
fn held(role: &str, group: Option<&str>) -> String {
    group.map_or_else(|| role.to_owned(), |group| format!("{role}@{group}"))
}

/// The same in words.
fn role_words(held: &str) -> String {
    match held.split_once('@') {
        None => held.to_owned(),
        Some((role, group)) => format!("{role} of the group {group}"),
    }
}

async fn list_people(server: &Server, which: &ListArguments) -> Result<(), ClientError> {
    let by_name =
        ListArguments { filter: which.filter.clone(), sort: which.sort.clone().or(Some("name".to_owned())) };
    let people: Vec<Person> = server.get_all(&by_name.address("/api/people")).await?;
    if server.says_json(&people) {
        return Ok(());
    }
    let width = people.iter().map(|person| person.name.len()).max().unwrap_or(0);
    for person in &people {
        let roles = if person.roles.is_empty() {
            "no role".to_owned()
        } else {
            person.roles.iter().map(|role| role_words(role)).collect::<Vec<_>>().join(", ")
        };
        let seen = person
            .last_at
            .map_or_else(|| "never signed in".to_owned(), |at| format!("last seen {}", minute(at)));
        let password = if person.has_password { "" } else { ", no password" };
        let (sessions, tokens) =
            (counted(person.sessions, "session", "sessions"), counted(person.tokens, "token", "tokens"));
        println!("{:<width$}  {roles}   {seen}, {sessions}, {tokens}{password}", harmless(&person.name));
    }
    println!(
        "Next: constans person grant NAME ROLE; to add a person: constans-server link --person NAME --role ROLE"
    );
    Ok(())
}

/// Lists, makes or withdraws tokens.
pub async fn token(arguments: &TokenArguments) -> Result<(), ClientError> {
    match &arguments.command {
        TokenCommand::List { server, which } => list_tokens(&Server::open(server)?, which).await,
        TokenCommand::Make { server, person, name, for_secs } => {
            let server = Server::open(server)?;
            let wanted = NewToken { person: person.clone(), name: name.clone(), for_secs: Some(*for_secs) };
            let made: MadeToken = server.post("/api/tokens", &wanted).await?;
            if !server.says_json(&made) {
                println!("{}", made.token.0);
                let until = made.ends_at.map(|at| format!(", until {}", minute(at))).unwrap_or_default();
                eprintln!("the token {name} of {person}{until}; it is shown only once");
            }
            Ok(())
        }
        TokenCommand::Withdraw { server, which } => {
            let server = Server::open(server)?;
            let found = find_token(&server, which).await?;
            let withdrawn: bool = server.delete(&format!("/api/tokens/{}", found.id)).await?;
            if !server.says_json(&withdrawn) {
                println!("the token {} of {} was withdrawn", harmless(&found.name), harmless(&found.person));
            }
            Ok(())
        }
    }
}

async fn list_tokens(server: &Server, which: &ListArguments) -> Result<(), ClientError> {
    let tokens: Vec<Token> = server.get_all(&which.address("/api/tokens")).await?;
    if server.says_json(&tokens) {
        return Ok(());
    }
    for token in &tokens {
        let until =
            token.ends_at.map_or_else(|| "without end".to_owned(), |at| format!("until {}", minute(at)));
        let used =
            token.last_at.map_or_else(|| "not used yet".to_owned(), |at| format!("last used {}", minute(at)));
        let name = if token.name.is_empty() {
            "unnamed token".to_owned()
        } else {
            harmless(&token.name).to_string()
        };
        println!(
            "{name} of {}   made {}, {until}, {used}\n   id  {}",
            harmless(&token.person),
            minute(token.made_at),
            token.id
        );
    }
    println!("Next: constans token withdraw NAME");
    Ok(())
}

async fn find_token(server: &Server, wanted: &str) -> Result<Token, ClientError> {
    let tokens: Vec<Token> = server.get_all("/api/tokens").await?;
    let mut found: Vec<Token> =
        tokens.into_iter().filter(|token| token.name == wanted || token.id.to_string() == wanted).collect();
    match found.len() {
        0 => Err(ClientError::new(
            format!("there is no token {}", harmless(wanted)),
            "constans token list shows them",
        )),
        1 => Ok(found.remove(0)),
        many => {
            let ids: Vec<String> =
                found.iter().map(|token| format!("{} of {}", token.id, harmless(&token.person))).collect();
            Err(ClientError::new(
                format!("{many} tokens are called {}: {}", harmless(wanted), ids.join(", ")),
                "name it by its id",
            ))
        }
    }
}

fn counted(number: u64, one: &str, many: &str) -> String {
    count(usize::try_from(number).unwrap_or(usize::MAX), one, many)
}

fn minute(at: Timestamp) -> String {
    at.strftime("%Y-%m-%d %H:%M UTC").to_string()
}
