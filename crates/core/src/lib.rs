//! The computation of Constans: kits, kinds, filters, resolving, comparing, runs and their statuses.
//!
//! Values in, values out: no clock, no file, no network, no thread. Anyone who calls [`kit::check`] or
//! [`state::resolve()`] does so on a thread with a large stack, since conditions are compiled there.

pub mod accept;
pub mod accept_alone;
pub mod address;
pub mod attention;
pub mod audit;
pub mod change;
pub mod check;
pub mod compare;
pub mod compliance;
pub mod control;
pub mod digest;
pub mod document;
pub mod episode;
pub mod evidence;
pub mod filter;
pub mod group;
pub mod hours;
pub mod joining;
pub mod kind;
pub mod kit;
pub mod machine;
pub mod nearest;
pub mod node_status;
pub mod param;
pub mod part;
pub mod rollout;
pub mod run;
pub mod run_comparison;
pub mod self_test;
pub mod sentence;
pub mod settings;
pub mod state;
pub mod sweep;
pub mod table;
pub mod template;
pub mod words;
