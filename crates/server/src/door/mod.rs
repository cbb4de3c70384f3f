//! The door: terminates TLS, limits unauthenticated callers, and forwards requests to a Rocket on loopback.
//!
//! Rocket's own listeners wait for ever: for a handshake, a head, a body, a caller that stays connected and sends nothing. Here
//! each of these has an end, and so have the connections of one network and of all. A connection to Rocket belongs to one
//! caller's connection and is never shared; by its port on loopback [`crate::callers::Callers`] knows who that is, so that no header can.

mod activity;
mod back;
mod body;
mod forward;
pub mod held;
mod limits;
mod lingering;
mod listener;
mod reach;

pub use limits::{Most, Room};
pub use listener::{Door, DoorSettings};
pub use reach::OwnNames;
