//! The statements of the server on a real PostgreSQL, each test on a database of its own, copied from one with the schema.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

mod chain_of_days;
mod change;
mod composed;
mod concession;
mod database;
mod drift;
mod event;
mod freeze;
mod job;
mod known_until;
mod narrowing;
mod node;
mod page;
mod people;
mod repeated_runs;
mod retention;
mod rollout;
mod statements;
