//! The server that the client speaks to.

use clap::{Args, ValueEnum};
use constans_link::{LinkError, client, send};
use constans_terminal::harmless;
use constans_wire::exit::Exit;
use reqwest::{Client, Method};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::process::ExitCode;

/// Which server, and by which token.
#[derive(Debug, Args)]
pub struct ServerArguments {
    /// The server's address for people, as https://hub.skerry.example:7444
    #[arg(long, env = "CONSTANS_SERVER", value_name = "URL")]
    server: String,
    /// Fingerprint of the server's CA
    #[arg(long, env = "CONSTANS_CA", value_name = "SHA256")]
    ca: String,
    /// The token to be known by; better set in the environment than written here
    #[arg(long, env = "CONSTANS_TOKEN", hide_env_values = true, value_name = "TOKEN")]
    token: String,
}

/// How results are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Output {
    /// For people
    Text,
    /// For programs
    Json,
}

/// Why a command that needs the server did not do what it was asked.
pub struct ClientError {
    message: String,
    hint: Option<String>,
    exit: Exit,
}

impl ClientError {
    /// Returns an error with what to do.
    pub fn new(message: impl Into<String>, hint: impl Into<String>) -> Self {
        Self { message: message.into(), hint: Some(hint.into()), exit: Exit::Error }
    }
}

impl From<LinkError> for ClientError {
    fn from(error: LinkError) -> Self {
        let exit = if matches!(error, LinkError::Refused(_)) { Exit::Refused } else { Exit::Error };
        let detail = if let LinkError::Refused(problem) = &error { problem.detail.as_ref().map(|detail| format!("\n\n{detail}")) } else { None };
        Self { message: format!("{error}{}", detail.unwrap_or_default()), hint: error.hint(), exit }
    }
}

/// A server that can be asked.
pub struct Server<'a> {
    client: Client,
    arguments: &'a ServerArguments,
}

impl<'a> Server<'a> {
    /// Prepares the link.
    pub fn open(arguments: &'a ServerArguments) -> Result<Self, ClientError> {
        Ok(Self { client: client(&arguments.ca, None)?, arguments })
    }

    /// Asks for something.
    pub async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, ClientError> {
        self.send::<(), T>(Method::GET, path, None).await
    }

    /// Has something done.
    pub async fn post<B: Serialize + Sync, T: DeserializeOwned>(&self, path: &str, body: &B) -> Result<T, ClientError> {
        self.send(Method::POST, path, Some(body)).await
    }

    /// Sets something whole.
    pub async fn put<B: Serialize + Sync, T: DeserializeOwned>(&self, path: &str, body: &B) -> Result<T, ClientError> {
        self.send(Method::PUT, path, Some(body)).await
    }

    /// Sends bytes.
    pub async fn put_bytes<T: DeserializeOwned>(&self, path: &str, bytes: Vec<u8>) -> Result<T, ClientError> {
        let url = format!("{}{path}", self.arguments.server.trim_end_matches('/'));
        let request = self.client.put(url).bearer_auth(&self.arguments.token).header("Content-Type", "application/octet-stream").body(bytes);
        Ok(send(request, &self.arguments.ca).await?)
    }

    async fn send<B: Serialize + Sync, T: DeserializeOwned>(&self, method: Method, path: &str, body: Option<&B>) -> Result<T, ClientError> {
        let url = format!("{}{path}", self.arguments.server.trim_end_matches('/'));
        let request = self.client.request(method, url).bearer_auth(&self.arguments.token);
        let request = if let Some(body) = body { request.json(body) } else { request };
        Ok(send(request, &self.arguments.ca).await?)
    }
}

/// Does something that waits for the network, and says what went wrong.
pub fn on_network(work: impl Future<Output = Result<(), ClientError>>) -> ExitCode {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime can be started");
    match runtime.block_on(work) {
        Ok(()) => Exit::Well.into(),
        Err(error) => {
            anstream::eprintln!("error: {}", error.message);
            if let Some(hint) = &error.hint {
                anstream::eprintln!("hint: {hint}");
            }
            error.exit.into()
        }
    }
}

/// Says what a change of what is wanted came to.
pub fn say_changed(changed: &constans_wire::kit::Changed) {
    println!("{} wanted otherwise from now on", if changed.nodes == 1 { "1 node is".to_owned() } else { format!("{} nodes are", changed.nodes) });
    for (node, because) in &changed.unusable {
        println!("{node} keeps its last good state: {because}");
    }
    println!("Next: constans node list shows what they have and what is wanted");
}

/// Returns a value as JSON for programs.
pub fn json(value: &impl Serialize) -> String {
    serde_json::to_string_pretty(value).expect("what the server answers is JSON")
}

/// Returns labels as people read them.
pub fn labels(labels: &std::collections::BTreeMap<String, String>) -> String {
    labels.iter().map(|(key, value)| format!("{}={}", harmless(key), harmless(value))).collect::<Vec<_>>().join(" ")
}
