//! Accounts and groups of the operating system, read from the files below the root and changed by its own tools.

use crate::error::HostError;
use crate::files::{Files, Ownership};
use crate::native::Native;
use crate::secrets::Secrets;
use constans_core::run::NativeStep;
use std::collections::BTreeMap;

/// One account.
#[derive(Debug, Clone, PartialEq, Eq)]
#[expect(missing_docs, reason = "the words are those of passwd(5)")]
pub struct Account {
    pub name: String,
    pub uid: u32,
    pub gid: u32,
    pub comment: String,
    pub home: String,
    pub shell: String,
}

/// One group of accounts.
#[derive(Debug, Clone, PartialEq, Eq)]
#[expect(missing_docs, reason = "the words are those of group(5)")]
pub struct AccountGroup {
    pub name: String,
    pub gid: u32,
    pub members: Vec<String>,
}

/// The accounts of one root.
#[derive(Debug, Clone)]
pub struct Accounts {
    files: Files,
    is_private_root: bool,
}

impl Accounts {
    /// Returns the accounts below a root.
    pub fn new(files: Files, is_private_root: bool) -> Self {
        Self { files, is_private_root }
    }

    /// Returns all accounts.
    ///
    /// # Errors
    ///
    /// Returns why passwd(5) could not be read.
    pub fn all(&self) -> Result<Vec<Account>, HostError> {
        Ok(self.files.read_text("/etc/passwd")?.lines().filter_map(account_of_line).collect())
    }

    /// Returns all groups.
    ///
    /// # Errors
    ///
    /// Returns why group(5) could not be read.
    pub fn groups(&self) -> Result<Vec<AccountGroup>, HostError> {
        Ok(self.files.read_text("/etc/group")?.lines().filter_map(group_of_line).collect())
    }

    /// Returns one account.
    ///
    /// # Errors
    ///
    /// Returns why passwd(5) could not be read.
    pub fn account(&self, name: &str) -> Result<Option<Account>, HostError> {
        Ok(self.all()?.into_iter().find(|account| account.name == name))
    }

    /// Returns one group.
    ///
    /// # Errors
    ///
    /// Returns why group(5) could not be read.
    pub fn group(&self, name: &str) -> Result<Option<AccountGroup>, HostError> {
        Ok(self.groups()?.into_iter().find(|group| group.name == name))
    }

    /// Returns the password field of shadow(5); none if there is no entry.
    ///
    /// # Errors
    ///
    /// Returns why shadow(5) could not be read, which needs root.
    pub fn password(&self, name: &str) -> Result<Option<String>, HostError> {
        let shadow = self.files.read_text("/etc/shadow")?;
        Ok(shadow
            .lines()
            .filter_map(|line| line.split_once(':'))
            .find(|(account, _)| *account == name)
            .map(|(_, rest)| rest.split(':').next().unwrap_or("").to_owned()))
    }

    /// Returns names by uid and by gid.
    ///
    /// # Errors
    ///
    /// Returns why they could not be read.
    pub fn names(&self) -> Result<Names, HostError> {
        Ok(Names {
            accounts: self.all()?.into_iter().map(|account| (account.uid, account.name)).collect(),
            groups: self.groups()?.into_iter().map(|group| (group.gid, group.name)).collect(),
        })
    }

    /// Runs one of the system's tools for accounts.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    pub fn tool(&self, program: &str, arguments: &[String]) -> Result<NativeStep, HostError> {
        let mut all: Vec<String> = Vec::new();
        if self.is_private_root {
            all.extend(["--prefix".to_owned(), self.files.root().display().to_string()]);
        }
        all.extend_from_slice(arguments);
        Native::new(program, &all).must().map(|ended| ended.step)
    }

    /// Sets a password hash without showing it to anyone: not on a command line.
    ///
    /// # Errors
    ///
    /// Returns what failed, without the hash.
    pub fn set_password(&self, name: &str, hash: &str) -> Result<NativeStep, HostError> {
        if !self.is_private_root {
            let native = Native::new("chpasswd", ["--encrypted"])
                .input(format!("{name}:{hash}\n"))
                .conceal(Secrets::of(hash));
            return native.must().map(|ended| ended.step);
        }
        // chpasswd knows no prefix: below a private root shadow(5) is replaced as a file.
        let shadow = self.files.read_text("/etc/shadow")?;
        let entry =
            self.files.look("/etc/shadow")?.ok_or_else(|| HostError::new("/etc/shadow is not there"))?;
        let lines: Vec<String> = shadow.lines().map(|line| with_password(line, name, hash)).collect();
        let ownership = Ownership { permissions: Some(entry.permissions), ..Ownership::default() };
        self.files
            .replace("/etc/shadow", format!("{}\n", lines.join("\n")).as_bytes(), ownership, |_| Ok(()))?;
        Ok(NativeStep {
            what: format!("set the password hash of {name} in /etc/shadow"),
            exit: None,
            output: String::new(),
        })
    }
}

/// Names by number.
#[derive(Debug, Clone, Default)]
pub struct Names {
    /// Accounts by uid.
    pub accounts: BTreeMap<u32, String>,
    /// Groups by gid.
    pub groups: BTreeMap<u32, String>,
}

/// Any text as lines of passwd(5), group(5) and shadow(5).
#[cfg(feature = "fuzzing")]
pub(crate) fn fuzz(text: &str) {
    for line in text.lines() {
        let _ = (account_of_line(line), group_of_line(line));
        let fields = line.split(':').count();
        assert_eq!(with_password(line, "ops", "!").split(':').count(), fields);
    }
}

fn account_of_line(line: &str) -> Option<Account> {
    let fields: Vec<&str> = line.split(':').collect();
    let [name, _, uid, gid, comment, home, shell] = fields[..] else { return None };
    Some(Account {
        name: name.into(),
        uid: uid.parse().ok()?,
        gid: gid.parse().ok()?,
        comment: comment.into(),
        home: home.into(),
        shell: shell.into(),
    })
}

fn group_of_line(line: &str) -> Option<AccountGroup> {
    let fields: Vec<&str> = line.split(':').collect();
    let [name, _, gid, members] = fields[..] else { return None };
    let mut members: Vec<String> =
        members.split(',').filter(|member| !member.is_empty()).map(str::to_owned).collect();
    members.sort();
    Some(AccountGroup { name: name.into(), gid: gid.parse().ok()?, members })
}

fn with_password(line: &str, name: &str, hash: &str) -> String {
    let mut fields: Vec<&str> = line.split(':').collect();
    if fields.first() == Some(&name) && fields.len() > 1 {
        fields[1] = hash;
    }
    fields.join(":")
}
