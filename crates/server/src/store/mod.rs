//! SQL and nothing else, one file a subject. Every function takes an executor, so that it joins a transaction.

pub mod audit;
pub mod change;
pub mod check_in;
pub mod effective_state;
pub mod episode;
pub mod exception;
pub mod fleet;
pub mod group;
pub mod invitation;
pub mod job;
pub mod joining;
pub mod listing;
pub mod narrowing;
pub mod node;
pub mod node_attribute;
pub mod notice;
pub mod person;
pub mod recovery;
pub mod refused_request;
pub mod release;
pub mod report_text;
pub mod run;
pub mod stage;
pub mod token;
pub mod uptime;
pub mod wanted;
