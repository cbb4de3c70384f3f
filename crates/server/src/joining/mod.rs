//! How machines become nodes: requests that a person approves, and those that an admission rule lets in.

pub mod admit;
pub mod judge;
pub mod place;
