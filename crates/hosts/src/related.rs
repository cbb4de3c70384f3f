//! What a host has on record of a drift: a person really signs in over SSH and changes a file with sudo.

use crate::kinds::must;
use crate::lab::{Failed, Host, print_result};
use constans_core::run::{RelatedKind, RelatedRecord, RelatedRecords};

const DOCUMENT: &str = "[baseline]\nname = \"gates\"\n\n[[clause]]\nwhat = \"file:/etc/gate/tariff.csv\"\ntext = \"auken;12\\n\"\n";

/// What `ops` does while signed in; the password is a secret, and no sign-in of `tor` ever was.
const SESSION: &str = "echo 'auken;1' | sudo tee /etc/gate/tariff.csv >/dev/null
sudo sh -c 'true herring-under-the-pier'
logger -t sshd 'Accepted publickey for tor from 192.0.2.9 port 50022 ssh2'
sudo dpkg -r logrotate >/dev/null
sleep 1";

/// Signs in, changes things, and looks at what the agent tells of it; returns how many failed.
pub fn all(host: Host<'_>) -> usize {
    println!("\nrelated records");
    let told = drifted(host);
    let related = match &told {
        Ok(related) => related,
        Err(why) => return print_result("a drift", Err(why.clone())),
    };
    let one = |kind: RelatedKind, is_meant: fn(&RelatedRecord) -> bool| match related
        .records
        .iter()
        .filter(|record| record.kind == kind && is_meant(record))
        .count()
    {
        1 => Ok(()),
        other => Err(format!("{other} times in {related:#?}")),
    };
    let is_of_ops = |record: &RelatedRecord| record.account.as_deref() == Some("ops");
    let all = format!("{related:?}");
    [
        print_result(
            "a sign-in over SSH, with its end",
            one(RelatedKind::SignIn, |record| {
                record.account.as_deref() == Some("ops")
                    && record.until.is_some()
                    && record.text.contains("127.0.0.1")
            }),
        ),
        print_result(
            "what sudo ran",
            one(RelatedKind::Sudo, |record| record.text == "as root: /usr/bin/tee /etc/gate/tariff.csv"),
        ),
        print_result(
            "a package that went",
            one(RelatedKind::Packages, |record| record.text.contains("logrotate removed")),
        ),
        print_result(
            "the file's own times",
            one(RelatedKind::File, |record| record.text.contains("(mtime); owner root")),
        ),
        print_result(
            "all that is told of a person is of the one who was there",
            match related.records.iter().find(|record| record.account.is_some() && !is_of_ops(record)) {
                None => Ok(()),
                Some(other) => Err(format!("{other:?}")),
            },
        ),
        print_result(
            "nothing that may be a secret",
            if all.contains("herring") { Err(all.clone()) } else { Ok(()) },
        ),
        print_result(
            "everything could be searched",
            if related.not_searched.is_empty() { Ok(()) } else { Err(all) },
        ),
        print_result("switched off, nothing is gathered", switched_off(host)),
    ]
    .into_iter()
    .sum()
}

fn drifted(host: Host<'_>) -> Result<RelatedRecords, Failed> {
    host.shell("id ops >/dev/null 2>&1 || useradd -m ops; mkdir -p /etc/gate /home/ops/.ssh; echo 'ops ALL=(root) NOPASSWD: ALL' > /etc/sudoers.d/ops")?;
    host.shell("[ -e /root/ops-key ] || ssh-keygen -q -t ed25519 -N '' -f /root/ops-key; cp /root/ops-key.pub /home/ops/.ssh/authorized_keys; chown -R ops: /home/ops/.ssh; chmod 700 /home/ops /home/ops/.ssh; usermod -s /bin/sh ops; mkdir -p /run/sshd; /usr/sbin/sshd -p 2222")?;
    host.write("/srv/documents/gates.toml", DOCUMENT)?;
    host.agent("enforce --yes --file /srv/documents/gates.toml")?;
    host.write("/root/session", SESSION)?;
    host.shell("ssh -p 2222 -i /root/ops-key -o BatchMode=yes -o StrictHostKeyChecking=no ops@127.0.0.1 sh -s < /root/session")?;
    host.shell("sleep 1")?;
    let report = host.agent("enforce --yes --file /srv/documents/gates.toml")?;
    let result = &report.clauses[0];
    must(host.shell("cat /etc/gate/tariff.csv")? == "auken;12\n", "it was not corrected", &report)?;
    result.related.as_deref().cloned().ok_or_else(|| format!("nothing was gathered: {result:?}"))
}

fn switched_off(host: Host<'_>) -> Result<(), Failed> {
    host.shell("echo x > /etc/gate/tariff.csv")?;
    let report = host.agent("enforce --yes --file /srv/documents/gates.toml --no-related-records")?;
    must(report.clauses[0].drift_window.is_some() && report.clauses[0].related.is_none(), "it was", &report)
}
