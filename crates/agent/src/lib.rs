//! The agent: runs effective states on one machine, remembers, keeps an attic.

pub mod attic;
pub mod command_line;
pub mod error;
pub mod local;
pub mod run_loop;
pub mod show;
pub mod state_dir;
