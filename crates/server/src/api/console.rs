//! The console's pages, as they were built, and their HTTP headers.

use crate::trust::{CalledBy, Secret};
use async_compression::tokio::bufread::GzipEncoder;
use rocket::fairing::{Fairing, Info, Kind};
use rocket::http::{ContentType, Header};
use rocket::request::Request;
use rocket::response::Response;
use rust_embed::RustEmbed;
use std::path::PathBuf;
use tokio::io::BufReader;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Built;

/// The page, with a nonce of its own for the styles that it makes.
#[derive(rocket::Responder)]
pub struct Page {
    body: String,
    kind: ContentType,
    policy: Header<'static>,
    keep: Header<'static>,
}

/// A file of the page. Its name holds its digest, so browsers may keep it.
#[derive(rocket::Responder)]
pub struct ConsoleFile {
    body: Vec<u8>,
    kind: ContentType,
    keep: Header<'static>,
}

/// `GET /…`: the page; which of its views is shown it reads from the address.
#[rocket::get("/<path..>", rank = 20)]
#[expect(clippy::needless_pass_by_value, reason = "Rocket hands it over")]
pub fn page(path: PathBuf) -> Option<Page> {
    // What the interface does not have is not a page either.
    if path.starts_with("api") || path.starts_with("assets") {
        return None;
    }
    let built = Built::get("index.html")?;
    let nonce = Secret::make().ok()?.text().to_owned();
    let policy = format!(
        "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-{nonce}'; img-src 'self' data:; font-src 'self'; connect-src 'self'; \
         base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
    );
    Some(Page {
        body: String::from_utf8_lossy(&built.data).replace("NONCE-OF-THIS-PAGE", &nonce),
        kind: ContentType::HTML,
        policy: Header::new("Content-Security-Policy", policy),
        keep: Header::new("Cache-Control", "no-store"),
    })
}

/// `GET /assets/…`: a file of the page.
#[rocket::get("/assets/<name>", rank = 10)]
pub fn part(name: &str) -> Option<ConsoleFile> {
    let built = Built::get(&format!("assets/{name}"))?;
    let kind = name
        .rsplit_once('.')
        .and_then(|(_, ending)| ContentType::from_extension(ending))
        .unwrap_or(ContentType::Binary);
    Some(ConsoleFile {
        body: built.data.into_owned(),
        kind,
        keep: Header::new("Cache-Control", "public, max-age=31536000, immutable"),
    })
}

/// Smaller bodies are not worth it, in bytes.
const LEAST_COMPRESSED: usize = 1_024;

/// Compresses an answer of some size for anyone who can read it; a stream of events has no size.
fn compress<'r>(request: &Request<'_>, response: &mut Response<'r>) {
    let accepts = request
        .headers()
        .get("Accept-Encoding")
        .any(|codings| codings.split(',').any(|coding| coding.trim().starts_with("gzip")));
    let is_text = response
        .content_type()
        .is_some_and(|kind| kind.top() == "text" || kind.is_json() || kind.is_javascript() || kind.is_svg());
    if accepts && is_text && response.body().preset_size().is_some_and(|size| size >= LEAST_COMPRESSED) {
        let body = response.body_mut().take();
        response.set_streamed_body(GzipEncoder::new(BufReader::new(body)));
        response.set_raw_header("Content-Encoding", "gzip");
        response.set_raw_header("Vary", "Accept-Encoding");
    }
}

/// Says with each answer as whom it was asked, and that answers about the fleet are not to be kept.
pub struct AnswerHeaders;

#[rocket::async_trait]
impl Fairing for AnswerHeaders {
    fn info(&self) -> Info {
        Info { name: "what each answer tells", kind: Kind::Response }
    }

    async fn on_response<'r>(&self, request: &'r Request<'_>, response: &mut Response<'r>) {
        if request.uri().path().starts_with("/api/") {
            response.set_raw_header("Cache-Control", "no-store");
        }
        compress(request, response);
        response.set_raw_header("Referrer-Policy", "no-referrer");
        if let CalledBy(Some(person)) = request.local_cache(|| CalledBy(None)) {
            response.set_raw_header("Constans-Person", person.clone());
        }
    }
}
