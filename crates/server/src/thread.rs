//! Running work that needs a large stack or much time outside of the request threads.

use crate::problem::ApiError;
use constans_folder::on_large_stack;

/// Does what needs a large stack beside the threads that answer.
///
/// # Errors
///
/// Returns that it broke off.
pub async fn on_thread<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T, ApiError> {
    let done = tokio::task::spawn_blocking(move || on_large_stack(work)).await;
    done.map_err(|error| ApiError::BrokeOff("the check", error))
}
