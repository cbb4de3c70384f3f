//! Changes of desired state: releases are published; a change is drafted, prepared, previewed and handed out; a restored
//! database is recovered.

pub mod accept;
pub mod documents;
pub mod draft;
pub mod for_a_time;
pub mod hand_out;
pub mod one_node;
pub mod prepare;
pub mod publish;
pub mod recover;
pub mod resolve;
pub mod resolver;
pub mod single;
pub mod stop_at;
pub mod waves;
pub mod worker;

/// The version of the resolving code: when it rises, the desired state of all nodes is resolved again.
pub const RESOLVER: i32 = 1;
