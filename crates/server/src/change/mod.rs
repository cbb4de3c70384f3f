//! Changes of desired state: releases are published, effective states resolved, a restored database is recovered.

pub mod publish;
pub mod recover;
pub mod resolve;
