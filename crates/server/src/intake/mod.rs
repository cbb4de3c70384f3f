//! What agents send: check-ins and reports, stored in batches.

pub mod batch;
pub mod history;
pub mod report;
pub mod report_times;
pub mod texts;
