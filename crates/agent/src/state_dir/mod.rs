//! The agent's own folder, and its path.

mod begun;
mod folder;
mod in_memory;
mod on_disk;
mod storage;

pub use begun::Begun;
pub use folder::{DEFAULT_FOLDER, RunLock, RunOrder, SetAside, StateDir};
pub use in_memory::InMemory;
pub use storage::{Append, Incoming, Listed, Lock, Storage};
