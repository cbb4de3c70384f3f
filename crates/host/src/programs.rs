//! Programs that clauses name: run on the node, or below a private root.

use crate::accounts::Accounts;
use crate::error::HostError;
use crate::files::Files;
use crate::native::Native;
use std::os::unix::fs::PermissionsExt as _;

/// How programs are run under one root.
#[derive(Debug, Clone)]
pub struct Programs {
    files: Files,
    accounts: Accounts,
    is_private_root: bool,
}

/// Why a program is not run.
#[derive(Debug)]
pub enum NotRun {
    /// It cannot run here at all, and why.
    Unsupported(String),
    /// It could, and something is wrong.
    Failed(HostError),
}

impl Programs {
    /// Returns how programs are run below a root.
    pub fn new(files: Files, accounts: Accounts, is_private_root: bool) -> Self {
        Self { files, accounts, is_private_root }
    }

    /// Returns how a path of the node is called by a program that [`Programs::native`] starts.
    pub fn path_for_program(&self, path: &str) -> String {
        if self.is_private_root && !is_root() {
            self.files.outside(path).display().to_string()
        } else {
            path.to_owned()
        }
    }

    /// Prepares a program. Below a private root it is run with that as its root, which needs root's rights; without
    /// them only programs below the root are run, by their path there.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be run.
    pub fn native(
        &self,
        argv: &[&str],
        through_shell: bool,
        account: Option<&str>,
    ) -> Result<Native, NotRun> {
        let shell = ["/bin/sh", "-c", argv.first().copied().unwrap_or_default()];
        let argv: &[&str] = if through_shell { &shell } else { argv };
        let native = if !self.is_private_root {
            Native::new(argv[0], &argv[1..])
        } else if is_root() {
            Native::new(
                "chroot",
                std::iter::once(self.files.root().display().to_string().as_str()).chain(argv.iter().copied()),
            )
        } else {
            self.below_root_unprivileged(argv, through_shell)?
        };
        let native = native.env("CONSTANS_ROOT", self.files.root());
        let Some(name) = account else { return Ok(native) };
        let known = self.accounts.account(name).map_err(NotRun::Failed)?;
        let known = known
            .ok_or_else(|| NotRun::Failed(HostError::new(format!("the account {name} does not exist"))))?;
        if !is_root() {
            return Err(NotRun::Unsupported(format!("running as {name} needs root's rights")));
        }
        Ok(native.account(known.uid, known.gid))
    }

    fn below_root_unprivileged(&self, argv: &[&str], through_shell: bool) -> Result<Native, NotRun> {
        if through_shell {
            return Err(NotRun::Unsupported("below a private root a shell needs root's rights".to_owned()));
        }
        let program = self.files.outside(argv[0]);
        let runs = argv[0].starts_with('/')
            && program
                .metadata()
                .is_ok_and(|metadata| metadata.is_file() && metadata.permissions().mode() & 0o111 != 0);
        if !runs {
            let message =
                format!("the program {} is not below the root {}", argv[0], self.files.root().display());
            return Err(NotRun::Failed(
                HostError::new(message).remedy("name a program that the root has, by its whole path"),
            ));
        }
        Ok(Native::new(&program.display().to_string(), &argv[1..]))
    }
}

/// Returns whether the agent has root's rights.
pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}
