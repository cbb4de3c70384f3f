//! Bodies that anybody may send: little of them is read.

use crate::problem::{ApiError, LeftProblem};
use rocket::Request;
use rocket::data::{ByteUnit, Data, FromData, Outcome};
use rocket::http::Status;
use serde::de::DeserializeOwned;

/// The largest body of a caller whom nobody knows yet.
const LARGEST: ByteUnit = ByteUnit::Kibibyte(64);

/// A body of at most 64 KiB, as JSON.
pub struct SmallBody<T>(pub T);

#[rocket::async_trait]
impl<'r, T: DeserializeOwned> FromData<'r> for SmallBody<T> {
    type Error = ();

    async fn from_data(request: &'r Request<'_>, data: Data<'r>) -> Outcome<'r, Self> {
        match read(data).await {
            Ok(read) => Outcome::Success(Self(read)),
            Err(error) => {
                let problem = error.problem();
                let status = Status::new(problem.status);
                request.local_cache(|| LeftProblem(problem));
                Outcome::Error((status, ()))
            }
        }
    }
}

async fn read<T: DeserializeOwned>(data: Data<'_>) -> Result<T, ApiError> {
    let body = data.open(LARGEST).into_bytes().await.map_err(|error| ApiError::Wrong(format!("the request cannot be read: {error}")))?;
    if !body.is_complete() {
        return Err(ApiError::Wrong(format!("this request has at most {LARGEST}")));
    }
    serde_json::from_slice(&body.value).map_err(|error| ApiError::Wrong(format!("the request is not understood: {error}")))
}
