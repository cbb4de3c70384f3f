//! The server that the client speaks to.

use crate::credentials::Credentials;
use crate::error::ClientError;
use clap::{Args, ValueEnum};
use constans_link::{Answer, client, send_bytes, send_streamed, send_whole};
use constans_terminal::harmless;
use constans_wire::activity::Activity;
use constans_wire::exit::Exit;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::{Client, Method, RequestBuilder};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::io::{IsTerminal as _, Write as _};
use std::process::ExitCode;
use std::sync::Once;
use std::time::{Duration, Instant};

/// Which server, and as whom; without any, the one that was signed in to last.
#[derive(Debug, Args)]
pub struct ServerAddress {
    /// Address of the server, for example https://hub.skerry.example:7444
    #[arg(long, env = "CONSTANS_SERVER", value_name = "URL")]
    server: Option<String>,
    /// Fingerprint of the server's CA; needed with --token
    #[arg(long, env = "CONSTANS_CA", value_name = "SHA256")]
    ca: Option<String>,
    /// Token of a program; prefer the environment variable
    #[arg(long, env = "CONSTANS_TOKEN", hide_env_values = true, value_name = "TOKEN")]
    token: Option<String>,
}

/// Which server, and how results are shown.
#[derive(Debug, Args)]
pub struct ServerArguments {
    #[command(flatten)]
    address: ServerAddress,
    /// Output format of the result
    #[arg(long, value_enum, default_value_t = Output::Text)]
    output: Output,
}

/// Which entries of a list, and in which order.
#[derive(Debug, Default, Args)]
pub struct ListArguments {
    /// Only entries that match, in CEL over their fields; an unknown field is answered with those that there are
    #[arg(long, value_name = "CEL")]
    pub filter: Option<String>,
    /// A field to sort by, with `-` before it the other way round
    #[arg(long, value_name = "FIELD", allow_hyphen_values = true)]
    pub sort: Option<String>,
}

impl ListArguments {
    /// What is printed of a list without entries: that none matches the filter, or else why it is empty.
    pub fn none<'a>(&self, otherwise: &'a str) -> &'a str {
        if self.filter.is_some() { "nothing matches the filter" } else { otherwise }
    }

    /// Adds what is chosen to the address of a list.
    pub fn address(&self, path: &str) -> String {
        let chosen = [("filter", &self.filter), ("sort", &self.sort)].into_iter();
        let word = |text: &String| utf8_percent_encode(text, NON_ALPHANUMERIC).to_string();
        let chosen = chosen.filter_map(|(name, text)| Some(format!("{name}={}", word(text.as_ref()?))));
        chosen.fold(path.to_owned(), |path, chosen| {
            let joint = if path.contains('?') { '&' } else { '?' };
            format!("{path}{joint}{chosen}")
        })
    }
}

impl ServerArguments {
    /// Returns whether results are for programs.
    pub fn prints_json(&self) -> bool {
        self.output == Output::Json
    }
}

/// How results are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Output {
    /// For people
    Text,
    /// For programs
    Json,
}

/// A server that can be asked.
pub struct Server {
    client: Client,
    url: String,
    ca: String,
    token: String,
    output: Output,
    /// Whether person and server were printed already.
    progress_shown: Once,
}

impl Server {
    /// Prepares the link.
    pub fn open(arguments: &ServerArguments) -> Result<Self, ClientError> {
        Self::at(&arguments.address, arguments.output)
    }

    /// Prepares the link for a command that shows its results in its own way.
    pub fn at(address: &ServerAddress, output: Output) -> Result<Self, ClientError> {
        if let (Some(server), Some(ca), Some(token)) = (&address.server, &address.ca, &address.token) {
            return Self::new(server, ca, token, output);
        }
        if address.token.is_some() || address.ca.is_some() {
            return Err(ClientError::new(
                "a token needs its server and the fingerprint of the server's CA",
                "set CONSTANS_SERVER, CONSTANS_CA and CONSTANS_TOKEN together",
            ));
        }
        let known = Credentials::read()?.find(address.server.as_deref())?;
        Self::new(&known.url, &known.ca, &known.token, output)
    }

    fn new(url: &str, ca: &str, token: &str, output: Output) -> Result<Self, ClientError> {
        Ok(Self {
            client: client(ca, None)?,
            url: url.trim_end_matches('/').to_owned(),
            ca: ca.to_owned(),
            token: token.to_owned(),
            output,
            progress_shown: Once::new(),
        })
    }

    /// Prints a result for programs, if JSON is wanted; returns whether it did.
    pub fn says_json(&self, result: &impl Serialize) -> bool {
        let is_wanted = self.output == Output::Json;
        if is_wanted {
            println!("{}", serde_json::to_string_pretty(result).expect("what the server answers is JSON"));
        }
        is_wanted
    }

    /// Returns whether results are for programs.
    pub fn prints_json(&self) -> bool {
        self.output == Output::Json
    }

    /// Returns its address.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// Asks for something.
    pub async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, ClientError> {
        self.send::<(), T>(Method::GET, path, None).await
    }

    /// Reads a list, all its pages.
    pub async fn get_all<T: DeserializeOwned>(&self, path: &str) -> Result<Vec<T>, ClientError> {
        self.get_at_most(path, usize::MAX).await
    }

    /// Reads a list, page by page until there are this many.
    pub async fn get_at_most<T: DeserializeOwned>(
        &self,
        path: &str,
        most: usize,
    ) -> Result<Vec<T>, ClientError> {
        let mut all = Vec::new();
        let mut next = Some(path.to_owned());
        while let Some(path) = next.filter(|_| all.len() < most) {
            let request = self.client.get(format!("{}{path}", self.url));
            let mut page: Answer<Vec<T>> = self.whole_answer(request).await?;
            all.append(&mut page.body);
            next = page.next_page;
        }
        all.truncate(most);
        Ok(all)
    }

    /// Has something done.
    pub async fn post<B: Serialize + Sync, T: DeserializeOwned>(
        &self,
        path: &str,
        body: &B,
    ) -> Result<T, ClientError> {
        self.send(Method::POST, path, Some(body)).await
    }

    /// Sets something whole.
    pub async fn put<B: Serialize + Sync, T: DeserializeOwned>(
        &self,
        path: &str,
        body: &B,
    ) -> Result<T, ClientError> {
        self.send(Method::PUT, path, Some(body)).await
    }

    /// Has something ended.
    pub async fn delete<T: DeserializeOwned>(&self, path: &str) -> Result<T, ClientError> {
        self.send::<(), T>(Method::DELETE, path, None).await
    }

    /// Asks for bytes.
    pub async fn get_bytes(&self, path: &str) -> Result<Vec<u8>, ClientError> {
        let request = self.client.get(format!("{}{path}", self.url)).bearer_auth(&self.token);
        Ok(send_bytes(request, &self.ca).await?)
    }

    /// Asks for bytes, and writes them into a file as they come; shows on a terminal how far it is. Returns within why they cannot be
    /// written.
    pub async fn get_to_file(
        &self,
        path: &str,
        file: &mut std::fs::File,
    ) -> Result<std::io::Result<()>, ClientError> {
        let request =
            self.client.get(format!("{}{path}", self.url)).timeout(PATIENCE).bearer_auth(&self.token);
        let (is_watched, mut shown_at, mut bytes) = (std::io::stderr().is_terminal(), Instant::now(), 0);
        let written = send_streamed(request, &self.ca, |chunk, all| {
            bytes += chunk.len() as u64;
            if is_watched && shown_at.elapsed() >= Duration::from_millis(500) {
                let all = all.map(|all| format!(" of {}", mebibytes(all))).unwrap_or_default();
                anstream::eprint!("\r{}{all}\x1b[K", mebibytes(bytes));
                shown_at = Instant::now();
            }
            file.write_all(chunk)
        })
        .await;
        if is_watched {
            anstream::eprint!("\r\x1b[K");
        }
        Ok(written?)
    }

    /// Sends bytes.
    pub async fn put_bytes<T: DeserializeOwned>(&self, path: &str, bytes: Vec<u8>) -> Result<T, ClientError> {
        let request = self
            .client
            .put(format!("{}{path}", self.url))
            .timeout(PATIENCE)
            .header("Content-Type", "application/octet-stream")
            .body(bytes);
        self.answer(request).await
    }

    async fn send<B: Serialize + Sync, T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: Option<&B>,
    ) -> Result<T, ClientError> {
        let request = self.client.request(method.clone(), format!("{}{path}", self.url));
        let request = if method == Method::GET { request } else { request.timeout(PATIENCE) };
        self.answer(if let Some(body) = body { request.json(body) } else { request }).await
    }

    async fn answer<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T, ClientError> {
        self.whole_answer(request).await.map(|answer| answer.body)
    }

    async fn whole_answer<T: DeserializeOwned>(
        &self,
        request: RequestBuilder,
    ) -> Result<Answer<T>, ClientError> {
        let answered = self.told_while_waiting(send_whole(request.bearer_auth(&self.token), &self.ca)).await;
        // Also with a failure the server is printed.
        self.progress_shown.call_once(|| {
            let person = answered.as_ref().ok().and_then(|answer| answer.person.as_deref());
            let as_whom = person.map(|person| format!("as {} ", harmless(person))).unwrap_or_default();
            anstream::eprintln!("{as_whom}at {}", self.url);
        });
        Ok(answered?)
    }

    /// Waits, and shows on a terminal for how long, and the server's activity for this person.
    async fn told_while_waiting<T>(&self, work: impl Future<Output = T>) -> T {
        let (began, mut work) = (Instant::now(), std::pin::pin!(work));
        let is_watched = std::io::stderr().is_terminal();
        loop {
            match tokio::time::timeout(Duration::from_secs(2), &mut work).await {
                Ok(done) => {
                    if is_watched && began.elapsed() >= Duration::from_secs(2) {
                        anstream::eprint!("\r\x1b[K");
                    }
                    return done;
                }
                Err(_) if is_watched => {
                    let what = self.own_activity().await.map_or_else(
                        || "waiting for the server".to_owned(),
                        |activity| activity_line(&activity),
                    );
                    anstream::eprint!("\r{what}, {} s so far\x1b[K", began.elapsed().as_secs());
                }
                Err(_) => {}
            }
        }
    }

    /// Returns the server's activity for this person, if it answers within a second.
    async fn own_activity(&self) -> Option<Activity> {
        let request = self
            .client
            .get(format!("{}/api/activities", self.url))
            .timeout(Duration::from_secs(1))
            .bearer_auth(&self.token);
        let answer: Answer<Vec<Activity>> = send_whole(request, &self.ca).await.ok()?;
        answer.body.into_iter().rfind(|activity| Some(&activity.who) == answer.person.as_ref())
    }
}

/// Returns a size as people read it.
pub fn mebibytes(bytes: u64) -> String {
    match bytes {
        0..=1_048_575 => format!("{} KiB", bytes.div_ceil(1024)),
        _ => format!("{}.{} MiB", bytes >> 20, ((bytes % (1 << 20)) * 10) >> 20),
    }
}

fn activity_line(activity: &Activity) -> String {
    format!("{}: {} of {} nodes", harmless(&activity.what), activity.done, activity.total)
}

/// The result of a change at every node of a large fleet is reckoned before it is answered; how far it is can be seen.
const PATIENCE: Duration = Duration::from_secs(3_600);

/// Does something that waits for the network, and prints what went wrong.
pub fn on_network(work: impl Future<Output = Result<(), ClientError>>) -> ExitCode {
    let runtime =
        tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime can be started");
    match runtime.block_on(work) {
        Ok(()) => Exit::Well.into(),
        Err(error) => error.say().into(),
    }
}

/// Returns labels as people read them.
pub fn labels(labels: &std::collections::BTreeMap<String, String>) -> String {
    labels
        .iter()
        .map(|(key, value)| format!("{}={}", harmless(key), harmless(value)))
        .collect::<Vec<_>>()
        .join(" ")
}
