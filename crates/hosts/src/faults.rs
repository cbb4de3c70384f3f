//! Faults of real machines: full and read-only disks, obstructed paths, power cuts, kills at every step.

use crate::kinds::{self, must};
use crate::lab::{Failed, Host, print_result};
use crate::packages::document;
use constans_core::run::{Failure, Outcome, Status};
use constans_wire::report::RunReport;

type Check = fn(Host<'_>) -> Result<(), Failed>;

const CHECKS: &[(&str, Check)] = &[
    ("a full disk: the old contents stay, the rest goes on", full_disk),
    ("a read-only file system: reported as that, the rest goes on", read_only),
    ("an immutable file: reported as that, and how to change it", immutable),
    ("a fault of the disk while contents are flushed: the old contents stay", disk_fault),
    ("a link, a directory, a mount point in the way: nothing is replaced", in_the_way),
    ("access control lists go along, other names of the file are listed", lists_and_names),
    ("an account whose programs run stays; its home stays when it goes", account_in_use),
    ("a directory that is not empty stays", directory_not_empty),
    ("a `match` that fits several lines: which ones, and nothing is changed", several_lines),
    ("what stands in a file that not everybody may read is reported by a digest only", secret_file),
    ("a mount point in use is not mounted at the next boot", busy_mount),
    ("a service says what was changed before it was related to it, until it is restarted", missed_reaction),
    ("a file that somebody blew up costs no memory, and goes into the attic piece by piece", blown_up),
    ("power cut: no half-written file, and the next run is well", power_cut),
];

/// Goes through all checks; returns how many failed.
pub fn all(host: Host<'_>) -> usize {
    println!("\nfaults");
    CHECKS.iter().map(|(what, check)| print_result(what, check(host))).sum()
}

/// Wants new contents at a path, and another file after it.
fn contents(host: Host<'_>, path: &str) -> Result<String, Failed> {
    host.shell("rm -f /etc/after")?;
    document(
        host,
        "fault",
        &format!(
            "[[clause]]\nwhat = \"file:{path}\"\ntext = \"{}\\n\"\n\n[[clause]]\nwhat = \"file:/etc/after\"\ntext = \"x\\n\"\n",
            "new ".repeat(30_000)
        ),
    )
}

/// The first clause failed with these words and this remedy, the old contents are still there, and the second was done.
fn failed_alone(
    host: Host<'_>,
    report: &RunReport,
    path: &str,
    message: &str,
    remedy: &str,
) -> Result<(), Failed> {
    let failure = failure_of(report)?;
    must(failure.message.contains(message), &format!("the message is `{}`", failure.message), report)?;
    must(
        failure.remedy.as_deref().unwrap_or_default().contains(remedy),
        &format!("the remedy is {:?}", failure.remedy),
        report,
    )?;
    must(host.shell(&format!("cat {path}"))? == "old\n", "the old contents are gone", report)?;
    must(
        host.try_shell(&format!("ls -A $(dirname {path}) | grep constans-new"))?.exit != 0,
        "half-written contents were left behind",
        report,
    )?;
    must(report.clauses[1].outcome == Outcome::Corrected, "what came after it was not done", report)
}

fn failure_of(report: &RunReport) -> Result<&Failure, Failed> {
    report.clauses[0]
        .failure
        .as_ref()
        .ok_or_else(|| format!("it did not fail: {:?}", report.clauses[0].outcome))
}

fn missed_reaction(host: Host<'_>) -> Result<(), Failed> {
    host.shell("printf '[Service]\\nExecStart=/bin/sleep infinity\\n' > /etc/systemd/system/ferry.service; systemctl daemon-reload; systemctl start ferry; sleep 1.1")?;
    let wants = |relation: &str| {
        let file = "[[clause]]\nwhat = \"file:/etc/ferry.conf\"\ntext = \"berth = 4\\n\"\n";
        document(
            host,
            "missed",
            &format!("{file}[[clause]]\nwhat = \"service:ferry\"\nrunning = true\n{relation}"),
        )
    };
    host.agent(&format!("enforce --yes {}", wants("")?))?;
    let related = wants("reacts_to = [\"file:/etc/ferry.conf\"]\nreaction = \"restart\"\n")?;
    let missed = host.agent(&format!("enforce --yes {related}"))?;
    must(missed.clauses[1].missed.len() == 1, "it was not said", &missed)?;
    host.shell("sleep 1.1; systemctl restart ferry")?;
    let restarted = host.agent(&format!("enforce --yes {related}"))?;
    host.shell(
        "systemctl stop ferry; rm /etc/systemd/system/ferry.service /etc/ferry.conf; systemctl daemon-reload",
    )?;
    must(
        restarted.clauses[1].missed.is_empty(),
        "it is said though the service was restarted since",
        &restarted,
    )
}

fn blown_up(host: Host<'_>) -> Result<(), Failed> {
    host.shell("echo old > /etc/blown && truncate -s 500M /etc/blown")?;
    let wanted = document(host, "blown", "[[clause]]\nwhat = \"file:/etc/blown\"\ntext = \"small\\n\"\n")?;
    let script =
        format!("prlimit --data=400000000 /usr/bin/constans-agent enforce --yes --output json {wanted}");
    let ended = host.try_shell(&script)?;
    let report: RunReport =
        serde_json::from_str(&ended.stdout).map_err(|error| format!("{error}: {}", ended.both()))?;
    host.shell("rm -f /etc/blown")?;
    let kept = report.clauses[0].kept.first().map(|kept| kept.bytes);
    must(
        report.clauses[0].outcome == Outcome::Corrected && kept == Some(500 * 1024 * 1024),
        "it was not corrected and kept",
        &report,
    )
}

fn full_disk(host: Host<'_>) -> Result<(), Failed> {
    host.shell(
        "mkdir -p /srv/small && mount -t tmpfs -o size=64k tmpfs /srv/small && echo old > /srv/small/f",
    )?;
    let wanted = contents(host, "/srv/small/f")?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    failed_alone(host, &report, "/srv/small/f", "no space left", "the disk is full")?;
    host.shell("umount /srv/small").map(drop)
}

fn read_only(host: Host<'_>) -> Result<(), Failed> {
    host.shell("mkdir -p /srv/fixed && echo old > /srv/fixed/f && mount --bind /srv/fixed /srv/fixed && mount -o remount,bind,ro /srv/fixed")?;
    let wanted = contents(host, "/srv/fixed/f")?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    failed_alone(host, &report, "/srv/fixed/f", "read-only", "mounted read-only")?;
    host.shell("umount /srv/fixed").map(drop)
}

fn immutable(host: Host<'_>) -> Result<(), Failed> {
    host.shell("echo old > /etc/fixed.conf")?;
    host.chattr("+i", "/etc/fixed.conf")?;
    let wanted = contents(host, "/etc/fixed.conf")?;
    let report = host.agent(&format!("enforce --yes {wanted}"));
    host.chattr("-i", "/etc/fixed.conf")?;
    failed_alone(host, &report?, "/etc/fixed.conf", "operation not permitted", "chattr -i")
}

fn disk_fault(host: Host<'_>) -> Result<(), Failed> {
    host.shell("echo old > /etc/faulty.conf")?;
    let wanted = contents(host, "/etc/faulty.conf")?;
    // The agent's own folder is flushed first; what fails is the flush of the new contents, and the rest must go on.
    let ended = host.try_shell(&format!("strace -f -o /tmp/trace -P /etc/.faulty.conf.constans-new -e trace=fsync -e inject=fsync:error=EIO constans-agent enforce --yes {wanted} --output json"))?;
    let report: RunReport = serde_json::from_str(&ended.stdout)
        .map_err(|error| format!("{error}: {} {}", ended.stdout, ended.stderr))?;
    failed_alone(host, &report, "/etc/faulty.conf", "input/output error", "the disk or its driver")
}

fn in_the_way(host: Host<'_>) -> Result<(), Failed> {
    host.shell("echo old > /srv/target; ln -sfn /srv/target /etc/way-link; mkdir -p /etc/way-dir; touch /etc/way-mount; mountpoint -q /etc/way-mount || mount --bind /srv/target /etc/way-mount")?;
    for (path, message) in [
        ("/etc/way-link", "a symbolic link is in the way at /etc/way-link"),
        ("/etc/way-dir", "a directory is in the way at /etc/way-dir"),
        ("/etc/way-mount", "cannot replace /etc/way-mount"),
    ] {
        let wanted = contents(host, path)?;
        let report = host.agent(&format!("enforce --yes {wanted}"))?;
        let failure = failure_of(&report)?;
        must(failure.message.contains(message), &format!("the message is `{}`", failure.message), &report)?;
        must(host.shell("cat /srv/target")? == "old\n", "what the link points at was changed", &report)?;
    }
    host.shell("umount /etc/way-mount; [ -L /etc/way-link ] && [ -d /etc/way-dir ]").map(drop)
}

fn lists_and_names(host: Host<'_>) -> Result<(), Failed> {
    host.shell(
        "echo old > /etc/acl.conf; setfacl -m u:daemon:rw /etc/acl.conf; ln -f /etc/acl.conf /etc/acl.other",
    )?;
    let wanted = contents(host, "/etc/acl.conf")?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    must(
        host.shell("getfacl -cp /etc/acl.conf")?.contains("user:daemon:rw"),
        "the access control list was lost",
        &report,
    )?;
    let is_listed = report.clauses[0].native.iter().any(|step| {
        step.what.contains("another name of the old file (a hard link) still has the old contents")
    });
    must(is_listed && host.shell("cat /etc/acl.other")? == "old\n", "the other name is not listed", &report)
}

fn account_in_use(host: Host<'_>) -> Result<(), Failed> {
    host.shell("useradd -m gunnar && touch /home/gunnar/logbook && systemd-run -q --unit=gunnar --uid=gunnar sleep infinity; for i in $(seq 100); do pgrep -u gunnar -x sleep >/dev/null && break; sleep 0.1; done")?;
    let wanted = document(host, "gunnar", "[[clause]]\nwhat = \"account:gunnar\"\ngone = true\n")?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    let remedy = failure_of(&report)?.remedy.clone().unwrap_or_default();
    must(remedy.contains("programs of this account run"), &remedy, &report)?;
    host.shell("systemctl stop gunnar")?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    must(
        host.try_shell("id gunnar")?.exit != 0 && host.try_shell("[ -e /home/gunnar/logbook ]")?.exit == 0,
        "it is still there, or its home is gone",
        &report,
    )
}

fn directory_not_empty(host: Host<'_>) -> Result<(), Failed> {
    host.shell("mkdir -p /srv/full && touch /srv/full/logbook")?;
    let wanted = document(host, "full", "[[clause]]\nwhat = \"directory:/srv/full\"\ngone = true\n")?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    let remedy = failure_of(&report)?.remedy.clone().unwrap_or_default();
    must(remedy.contains("only empty directories are removed"), &remedy, &report)?;
    host.shell("[ -e /srv/full/logbook ]").map(drop)
}

fn several_lines(host: Host<'_>) -> Result<(), Failed> {
    host.shell("printf 'a 1\\nb\\na 2\\n' > /etc/several")?;
    let wanted = document(
        host,
        "several",
        "[[clause]]\nwhat = \"line:a\"\nin = \"/etc/several\"\ntext = \"a 3\"\nmatch = '^a '\n",
    )?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    let failure = failure_of(&report)?;
    must(failure.message.contains("`match` matches the lines 1, 3"), &failure.message, &report)?;
    must(host.shell("cat /etc/several")? == "a 1\nb\na 2\n", "the file was changed", &report)
}

fn secret_file(host: Host<'_>) -> Result<(), Failed> {
    host.shell(
        "printf 'password=Tern-1234\\nuser=Tern-5678\\n' > /etc/secret.conf; chmod 600 /etc/secret.conf",
    )?;
    let wanted = document(
        host,
        "secret",
        "[[clause]]\nwhat = \"setting:p\"\nin = \"/etc/secret.conf\"\nkey = [\"password\"]\nvalue = \"x\"\nformat = \"key=value\"\n\n[[clause]]\nwhat = \"line:u\"\nin = \"/etc/secret.conf\"\ntext = \"user=y\"\nmatch = '^user='\n",
    )?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    let report_text = serde_json::to_string(&report).map_err(|error| error.to_string())?;
    must(
        !report_text.contains("Tern") && report_text.contains("not everybody may read"),
        "the report shows it, or does not say why not",
        &report,
    )?;
    must(
        host.shell("cat /etc/secret.conf; stat -c %a /etc/secret.conf")? == "password=x\nuser=y\n600\n",
        "it was not set",
        &report,
    )
}

fn busy_mount(host: Host<'_>) -> Result<(), Failed> {
    host.shell("mkdir -p /srv/busy; mount -t tmpfs tmpfs /srv/busy; echo 'tmpfs /srv/busy tmpfs defaults 0 0' >> /etc/fstab; systemd-run -q --unit=busy --working-directory=/srv/busy sleep infinity; for i in $(seq 100); do [ \"$(readlink /proc/$(systemctl show -p MainPID --value busy)/cwd)\" = /srv/busy ] && break; sleep 0.1; done")?;
    let wanted = document(host, "busy", "[[clause]]\nwhat = \"mount:/srv/busy\"\ngone = true\n")?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    let remedy = failure_of(&report)?.remedy.clone().unwrap_or_default();
    must(remedy.contains("a program uses it"), &remedy, &report)?;
    must(host.try_shell("grep -q /srv/busy /etc/fstab")?.exit != 0, "it is still in fstab", &report)?;
    host.shell("systemctl stop busy")?;
    let report = host.agent(&format!("enforce --yes {wanted}"))?;
    must(
        report.status == Status::RolledOut && host.try_shell("mountpoint -q /srv/busy")?.exit != 0,
        "it is still mounted",
        &report,
    )
}

fn power_cut(host: Host<'_>) -> Result<(), Failed> {
    let wanted = contents(host, "/etc/cut.conf")?;
    for _ in 0..3 {
        host.shell("echo old > /etc/cut.conf; sync")?;
        let line = format!(
            "systemd-run -q --collect sh -c 'while :; do constans-agent enforce --yes {wanted}; echo old > /etc/cut.conf; done'; sleep 0.4"
        );
        host.shell(&line)?;
        host.power_cut()?;
        let size: usize =
            host.shell("stat -c %s /etc/cut.conf")?.trim().parse().map_err(|error| format!("{error}"))?;
        // The shell's own `echo` is not atomic: it may leave the file empty. The agent's contents are whole or not there.
        if ![0, 4, 120_001].contains(&size) {
            return Err(format!(
                "after the power cut the file has {size} bytes: neither the old contents nor the new"
            ));
        }
        let report = host.agent(&format!("enforce --yes {wanted}"))?;
        must(
            report
                .clauses
                .iter()
                .all(|clause| matches!(clause.outcome, Outcome::Corrected | Outcome::InLine)),
            "the next run is not well",
            &report,
        )?;
    }
    Ok(())
}

/// Kills the agent at steps that a seed chooses, this many times over all kinds; returns how many kinds failed.
///
/// After each kill the next run must be well, the system's own programs must find what is wanted, and nothing
/// half-written may be left.
pub fn kills(host: Host<'_>, total: usize) -> Result<usize, Failed> {
    println!("\nkilled at {total} steps over all kinds");
    let kinds = kinds::correctable();
    let each = total.div_ceil(kinds.len());
    let (mut failed, mut kills) = (0, 0);
    for (seed, (kind, drift, proof)) in kinds.into_iter().enumerate() {
        let kit = format!("--kit /srv/kits/{}", kind.replace([' ', '_'], "-"));
        // Apt is slow, and its steps are few: it gets fewer turns.
        let turns = if matches!(kind.as_str(), "package" | "trust_anchor") { each / 4 } else { each };
        let script = format!(
            "drift() {{ {drift}; }}\nproof() {{ {proof}; }}\nagain() {{ constans-agent enforce --yes {kit} > /tmp/last 2>&1; }}\n\
             again; drift >/dev/null 2>&1; rm -f /tmp/steps; CONSTANS_STEPS=/tmp/steps again || {{ cat /tmp/last; exit 1; }}\n\
             steps=$(wc -l < /tmp/steps); kills=0\n\
             for turn in $(seq {turns}); do\n\
               at=$(( ({seed} * 7919 + turn * 104729) % steps + 1 ))\n\
               drift >/dev/null 2>&1\n\
               CONSTANS_KILL_AT=$at again; [ $? = 137 ] && kills=$((kills + 1))\n\
               again || {{ echo \"after a kill at step $at: $(sed -n ${{at}}p /tmp/steps)\"; cat /tmp/last; exit 1; }}\n\
               proof >/dev/null 2>&1 || {{ echo \"not as wanted after a kill at step $at: $(sed -n ${{at}}p /tmp/steps)\"; cat /tmp/last; exit 1; }}\n\
             done\n\
             left=$(find /etc /srv /home /usr/local -xdev -name '.*constans-new'); [ -z \"$left\" ] || {{ echo \"left behind: $left\"; exit 1; }}\n\
             echo $kills of $steps\n"
        );
        host.write("/srv/kills.sh", &script)?;
        let ended = host.try_shell("bash /srv/kills.sh")?;
        let counts = ended.stdout.trim().lines().last().and_then(|line| line.split_once(" of "));
        // A turn may run through if this time it has fewer steps; where most do, nothing was tried.
        let killed = counts
            .and_then(|(killed, _)| killed.parse::<usize>().ok())
            .filter(|killed| ended.exit == 0 && killed * 2 >= turns);
        match (killed, counts) {
            (Some(killed), Some((_, steps))) => {
                kills += killed;
                println!("  well    {kind}: killed {killed} times, at some of its {steps} steps");
            }
            _ => {
                failed += 1;
                println!("  FAILED  {kind}: {}{}", ended.stdout.trim(), ended.stderr);
            }
        }
    }
    println!("  {kills} kills");
    Ok(failed)
}
