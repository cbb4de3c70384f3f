//! `constans sign-in`, `sign-out` and `session`.

use crate::credentials::{Credentials, Known};
use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::Args;
use constans_link::{client, fingerprint_of, send};
use constans_terminal::{harmless, time};
use constans_wire::people::{ClientToken, Concealed, Session, SignIn};
use std::io::{self, BufRead as _, IsTerminal as _, Write as _};

/// Arguments of `sign-in`.
#[derive(Debug, Args)]
pub struct SignInArguments {
    /// Address of the server, for example https://hub.skerry.example:7444
    #[arg(value_name = "URL")]
    url: String,
    /// Fingerprint of the server's CA [default: show it and ask]
    #[arg(long, env = "CONSTANS_CA", value_name = "SHA256")]
    fingerprint: Option<String>,
    /// Your name [default: ask]
    #[arg(long, value_name = "NAME")]
    person: Option<String>,
    /// File with the password, or - for standard input [default: ask]
    #[arg(long, value_name = "FILE")]
    password_file: Option<String>,
}

/// Arguments of `session` and `sign-out`.
#[derive(Debug, Args)]
pub struct SessionArguments {
    #[command(flatten)]
    server: ServerArguments,
}

/// Signs in and keeps what the server gives.
pub async fn run(arguments: &SignInArguments) -> Result<(), ClientError> {
    let url = arguments.url.trim_end_matches('/').to_owned();
    if !url.starts_with("https://") {
        return Err(ClientError::new(
            format!("`{url}` is not the address of a server"),
            "it begins with https://, for example https://hub.skerry.example:7444",
        ));
    }
    let ca = match &arguments.fingerprint {
        Some(known) => known.to_ascii_lowercase(),
        None => confirmed(&url).await?,
    };
    let person = match &arguments.person {
        Some(person) => person.clone(),
        None => prompt("name: ")?,
    };
    let password = Concealed(password(arguments.password_file.as_deref(), &person)?);
    let sign_in = SignIn { name: person, password };
    let given: ClientToken =
        send(client(&ca, None)?.post(format!("{url}/api/sign-in/client")).json(&sign_in), &ca).await?;
    let known = Known {
        url: url.clone(),
        ca,
        person: given.person.clone(),
        token: given.token.0,
        expires_at: given.expires_at,
    };
    let path = Credentials::read()?.keep(known)?;
    println!(
        "signed in as {} at {url} ({}), until {}",
        harmless(&given.person),
        harmless(&given.server.title),
        time(given.expires_at)
    );
    println!("kept in {}, which only you can read", path.display());
    println!("Next: constans node list");
    Ok(())
}

/// Shows the fingerprint that the server has and asks whether it is the right one. Nothing was sent to the server yet.
async fn confirmed(url: &str) -> Result<String, ClientError> {
    let fingerprint = fingerprint_of(url).await?;
    println!(
        "{url} has a CA with the fingerprint\n  {fingerprint}\nCompare it with the one in the server's log."
    );
    if !io::stdin().is_terminal() {
        return Err(ClientError::new(
            "the fingerprint cannot be confirmed: standard input is not a terminal",
            format!("if the fingerprint is right: --fingerprint {fingerprint}"),
        ));
    }
    if matches!(prompt("is it the right one? (yes/no) ")?.as_str(), "yes" | "y") {
        return Ok(fingerprint);
    }
    Err(ClientError::new(
        "not confirmed; nothing was sent to the server",
        "ask the administrator of the server for its address and fingerprint",
    )
    .declined())
}

fn prompt(question: &str) -> Result<String, ClientError> {
    if !io::stdin().is_terminal() {
        return Err(ClientError::new(
            "no name given, and standard input is not a terminal",
            "give it with --person NAME",
        ));
    }
    print!("{question}");
    let mut answer = String::new();
    io::stdout()
        .flush()
        .and_then(|()| io::stdin().lock().read_line(&mut answer))
        .map_err(|error| ClientError::new(format!("the answer cannot be read: {error}"), "try again"))?;
    Ok(answer.trim().to_owned())
}

fn password(from: Option<&str>, person: &str) -> Result<String, ClientError> {
    let unreadable = |error: io::Error| {
        ClientError::new(
            format!("the password cannot be read: {error}"),
            "type it on a terminal, or give its file with --password-file",
        )
    };
    let text = match from {
        Some("-") => io::read_to_string(io::stdin()).map_err(unreadable)?,
        Some(file) => std::fs::read_to_string(file).map_err(unreadable)?,
        None => {
            rpassword::prompt_password(format!("password of {}: ", harmless(person))).map_err(unreadable)?
        }
    };
    Ok(text.trim_end_matches(['\r', '\n']).to_owned())
}

/// Says who one is, and where.
pub async fn session(arguments: &SessionArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let session: Session = server.get("/api/session").await?;
    if server.says_json(&session) {
        return Ok(());
    }
    println!(
        "{} is {} at {}",
        harmless(&session.person),
        session.roles.join(", "),
        harmless(&session.server.title)
    );
    println!("may   {}", session.permissions.join(" "));
    println!("server {}, CA {}", session.server.version, session.server.fingerprint);
    Ok(())
}

/// Signs out: the token ends at the server, and is forgotten here.
pub async fn sign_out(arguments: &SessionArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let person: String = server.post("/api/sign-out", &()).await?;
    Credentials::read()?.forget(server.url())?;
    if !server.says_json(&person) {
        println!("{} is signed out", harmless(&person));
    }
    Ok(())
}
