//! The agent: runs effective states on one machine, remembers, keeps an attic.

pub mod attic;
pub mod command_line;
pub mod daemon;
pub mod diagnose;
pub mod error;
pub mod freezes;
pub mod join;
pub mod join_command;
pub mod joining;
pub mod journal;
pub mod kept_contents;
pub mod kept_runs;
pub mod local;
pub mod membership;
pub mod memory_store;
pub mod network_part;
pub mod noted;
pub mod run_loop;
pub mod served;
pub mod server_link;
pub mod show;
pub mod spool;
pub mod state_dir;
pub mod under_way;
pub mod way;
pub mod zone;
