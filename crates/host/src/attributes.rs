//! Access control lists and other extended attributes, which go along when a file is replaced.

use rustix::fs::{Mode, OFlags};
use std::os::fd::{AsRawFd as _, OwnedFd};

/// The capabilities of a program count for the program that it was, not for new contents.
const NOT_CARRIED: &str = "security.capability";

/// Copies access control lists and other extended attributes from what is there to what replaces it. Those of the
/// kernel's own name spaces go along as far as this account may set them.
pub(crate) fn carry_attributes(folder: &OwnedFd, old: &str, new: &OwnedFd) -> rustix::io::Result<()> {
    let old = match rustix::fs::openat(
        folder,
        old,
        OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC,
        Mode::empty(),
    ) {
        Ok(old) => old,
        Err(rustix::io::Errno::NOENT) => return Ok(()),
        Err(error) => return Err(error),
    };
    let path = format!("/proc/self/fd/{}", old.as_raw_fd());
    let names = match sized(rustix::fs::listxattr_query(&path), |buffer| rustix::fs::listxattr(&path, buffer))
    {
        Ok(names) => names,
        // A file system without them, or a link.
        Err(rustix::io::Errno::NOTSUP | rustix::io::Errno::NOENT | rustix::io::Errno::PERM) => return Ok(()),
        Err(error) => return Err(error),
    };
    for name in
        names.split(|byte| *byte == 0).filter(|name| !name.is_empty() && *name != NOT_CARRIED.as_bytes())
    {
        let value = sized(rustix::fs::getxattr_query(&path, name), |buffer| {
            rustix::fs::getxattr(&path, name, buffer)
        })?;
        match rustix::fs::fsetxattr(new, name, &value, rustix::fs::XattrFlags::empty()) {
            Err(error) if name.starts_with(b"system.") || name.starts_with(b"user.") => return Err(error),
            _ => {}
        }
    }
    Ok(())
}

/// Asks for the size first, then for the value.
fn sized(
    size: rustix::io::Result<usize>,
    ask: impl Fn(&mut [u8]) -> rustix::io::Result<usize>,
) -> rustix::io::Result<Vec<u8>> {
    let mut buffer = vec![0; size?];
    let length = if buffer.is_empty() { 0 } else { ask(&mut buffer)? };
    buffer.truncate(length);
    Ok(buffer)
}
