//! Request bodies of callers that are not authenticated yet: strangers may send little, and a body is only parsed once its
//! node is known.

use crate::callers::ShownCertificate;
use crate::problem::{ApiError, ProblemFromGuard};
use crate::thread::on_thread;
use constans_wire::text::without_nul;
use rocket::Request;
use rocket::data::{ByteUnit, Data, FromData, Outcome};
use rocket::form::{self, FromFormField, ValueField};
use rocket::http::Status;
use serde::de::DeserializeOwned;
use sqlx::PgPool;

/// This many bytes of JSON are read at once.
const READ_AT_ONCE: usize = 128 * 1024;
/// The largest file of a kit, in bytes.
pub const MAX_FILE: u64 = 64 * 1024 * 1024;
/// The largest body of a caller whom nobody knows yet.
const MAX_BYTES: ByteUnit = ByteUnit::Kibibyte(64);
/// The largest body of a caller who shows a node's certificate.
const MAX_OF_NODE: ByteUnit = ByteUnit::Mebibyte(8);

/// The largest body of people and programs.
const MAX_OF_PEOPLE: ByteUnit = ByteUnit::Mebibyte(8);

/// What people and programs send, as JSON of at most 8 MiB.
pub struct JsonBody<T>(pub T);

impl<T> std::ops::Deref for JsonBody<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.0
    }
}

#[rocket::async_trait]
impl<'r, T: DeserializeOwned + Send + 'static> FromData<'r> for JsonBody<T> {
    type Error = ();

    async fn from_data(request: &'r Request<'_>, data: Data<'r>) -> Outcome<'r, Self> {
        outcome(request, read(data, MAX_OF_PEOPLE).await.map(|(sent, _)| Self(sent)))
    }
}

/// A body of at most 64 KiB, as JSON.
pub struct SmallBody<T>(pub T);

/// What a node sends, as JSON of at most 8 MiB, and its bytes; or what is wrong with it.
pub struct NodeBody<T>(Result<(T, Vec<u8>), ApiError>);

impl<T> NodeBody<T> {
    /// Returns what the node sends.
    ///
    /// # Errors
    ///
    /// Returns what is wrong with it; but first that the node is not admitted, if it is not.
    pub async fn sent_by(self, shown: &ShownCertificate, db: &PgPool) -> Result<T, ApiError> {
        self.sent_whole_by(shown, db).await.map(|(sent, _)| sent)
    }

    /// Returns what the node sends, and its bytes.
    ///
    /// # Errors
    ///
    /// Returns what is wrong with it; but first that the node is not admitted, if it is not.
    pub async fn sent_whole_by(
        self,
        shown: &ShownCertificate,
        db: &PgPool,
    ) -> Result<(T, Vec<u8>), ApiError> {
        if self.0.is_err() {
            shown.caller(db).await?;
        }
        self.0
    }
}

#[rocket::async_trait]
impl<'r, T: DeserializeOwned + Send + 'static> FromData<'r> for NodeBody<T> {
    type Error = ();

    async fn from_data(_: &'r Request<'_>, data: Data<'r>) -> Outcome<'r, Self> {
        Outcome::Success(Self(read(data, MAX_OF_NODE).await))
    }
}

#[rocket::async_trait]
impl<'r, T: DeserializeOwned + Send + 'static> FromData<'r> for SmallBody<T> {
    type Error = ();

    async fn from_data(request: &'r Request<'_>, data: Data<'r>) -> Outcome<'r, Self> {
        outcome(request, read(data, MAX_BYTES).await.map(|(sent, _)| Self(sent)))
    }
}

fn outcome<'r, T>(request: &'r Request<'_>, read: Result<T, ApiError>) -> Outcome<'r, T>
where
    T: FromData<'r, Error = ()>,
{
    match read {
        Ok(read) => Outcome::Success(read),
        Err(error) => {
            let problem = error.problem();
            let status = Status::new(problem.status);
            request.local_cache(|| ProblemFromGuard(problem));
            Outcome::Error((status, ()))
        }
    }
}

/// Reads a body and returns also its bytes: the one way in for what callers send as JSON, whoever they are.
async fn read<T: DeserializeOwned + Send + 'static>(
    data: Data<'_>,
    largest: ByteUnit,
) -> Result<(T, Vec<u8>), ApiError> {
    let body = data.open(largest).into_bytes().await.map_err(ApiError::CutOff)?;
    if !body.is_complete() {
        return Err(ApiError::TooLarge { what: "this request", most_bytes: largest.as_u64() });
    }
    let mut bytes = body.value;
    let are_many = bytes.len() > READ_AT_ONCE;
    let parse = move || {
        without_nul(&mut bytes);
        let sent = serde_json::from_slice(&bytes).map_err(ApiError::NotUnderstood)?;
        Ok((sent, bytes))
    };
    // What takes longer than most requests in all is read beside the threads that answer those.
    if are_many { on_thread(parse).await? } else { parse() }
}

/// A number after the `?` that may be left out. Unlike `Option`, it is refused if it is none.
#[derive(Debug, Default)]
pub struct Number(pub Option<u32>);

#[rocket::async_trait]
impl<'v> FromFormField<'v> for Number {
    fn from_value(field: ValueField<'v>) -> form::Result<'v, Self> {
        Ok(Self(Some(u32::from_value(field)?)))
    }

    fn default() -> Option<Self> {
        Some(Self(None))
    }
}
