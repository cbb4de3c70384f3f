//! The agent's own folder, and where it lies.

mod folder;
mod in_memory;
mod on_disk;
mod storage;

pub use folder::{RunLock, RunOrder, SetAside, StateDir, USUAL};
pub use in_memory::InMemory;
pub use storage::{Append, Incoming, Listed, Lock, Storage};
