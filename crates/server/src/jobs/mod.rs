//! Background work: the audit trail and the days chained, figures of days kept, what was examined noted, filters of concessions and scopes followed, silent nodes and ending certificates noted, partitions made ahead, what is too old deleted, runs counted by the hour, refused requests stored in
//! batches, open pages woken.

pub mod audit_chain;
pub mod chain_of_days;
pub mod day_figures;
pub mod examined_states;
pub mod followed_filters;
pub mod node_events;
pub mod partitions;
pub mod refused_requests;
pub mod retention;
pub mod run_hours;
pub mod waker;
