//! Every kind on a real host: inspected, corrected, verified by the system's own programs, drifted, corrected again.

use crate::lab::{Failed, Host};
use constans_core::kind::KINDS;
use constans_core::run::{Cause, ClauseResult, Outcome, Status, Verdict};
use constans_wire::report::RunReport;
use std::time::Instant;

/// One kind: what is wanted, how the system itself shows whether that is the case, and how someone changes it by hand.
pub struct Case {
    kind: &'static str,
    /// Its backend, if it is not the usual one.
    via: &'static str,
    /// Further files of the kit.
    files: &'static [(&'static str, &'static str)],
    /// Done on the host before.
    before: &'static str,
    clauses: &'static str,
    /// A line of shell that succeeds if that is the case.
    proof: &'static str,
    /// A line of shell that changes it.
    drift: &'static str,
    /// What the report says of that, in part.
    difference: &'static str,
}

impl Case {
    fn name(&self) -> String {
        if self.via.is_empty() { self.kind.to_owned() } else { format!("{} {}", self.kind, self.via) }
    }
}

/// A self-signed certificate of Skerry Line, made for these tests; its key was thrown away.
const CERTIFICATE: &str = include_str!("skerry-line.pem");

const CASES: &[Case] = &[
    Case {
        kind: "file",
        via: "",
        files: &[("renders/shell.conf.jinja", "idle = {{ params.idle }}\n")],
        before: "useradd -m ops",
        clauses: "[params.idle]\ntype = \"integer\"\ndefault = 90\n\n[[clause]]\nwhat = \"file:/etc/kiosk.conf\"\nrender = \"shell.conf.jinja\"\nowner = \"ops\"\ngroup = \"ops\"\npermissions = \"640\"\n",
        proof: "[ \"$(cat /etc/kiosk.conf)\" = 'idle = 90' ] && [ \"$(stat -c %U:%G:%a /etc/kiosk.conf)\" = ops:ops:640 ]",
        drift: "echo 'idle = 9' > /etc/kiosk.conf; chmod 666 /etc/kiosk.conf",
        difference: "permissions: wanted 0640, found 0666",
    },
    Case {
        kind: "directory",
        via: "",
        files: &[],
        before: "",
        clauses: "[[clause]]\nwhat = \"directory:/srv/queue\"\npermissions = \"0750\"\nowner = \"ops\"\nonly_known = true\n",
        proof: "[ \"$(stat -c %U:%a /srv/queue)\" = ops:750 ] && [ -z \"$(ls -A /srv/queue)\" ]",
        drift: "touch /srv/queue/stray",
        difference: "only_known: wanted no other entries, found stray",
    },
    Case {
        kind: "tree",
        via: "",
        files: &[
            ("copies/pages/index.html", "<p>Tickets</p>\n"),
            ("copies/pages/en/help.html", "<p>Help</p>\n"),
        ],
        before: "",
        clauses: "[[clause]]\nwhat = \"tree:/srv/pages\"\ncopy = \"pages\"\nowner = \"ops\"\nfile_permissions = \"0644\"\ndir_permissions = \"0755\"\nonly_known = true\n",
        proof: "grep -q Help /srv/pages/en/help.html && [ $(find /srv/pages -type f | wc -l) = 2 ] && [ -z \"$(find /srv/pages ! -user ops)\" ]",
        drift: "echo x > /srv/pages/index.html; mkdir /srv/pages/old; touch /srv/pages/old/a; chown root /srv/pages/en/help.html",
        difference: "only_known: wanted no other entries, found old",
    },
    Case {
        kind: "link",
        via: "",
        files: &[],
        before: "",
        clauses: "[[clause]]\nwhat = \"link:/etc/kiosk.current\"\ntarget = \"kiosk.conf\"\n",
        proof: "[ \"$(readlink /etc/kiosk.current)\" = kiosk.conf ]",
        drift: "ln -sfn elsewhere /etc/kiosk.current",
        difference: "target: wanted kiosk.conf, found elsewhere",
    },
    Case {
        kind: "line",
        via: "",
        files: &[],
        before: "",
        clauses: "[[clause]]\nwhat = \"line:hub\"\nin = \"/etc/hosts\"\ntext = \"192.0.2.10 hub.skerry.example\"\nmatch = '\\shub\\.skerry\\.example$'\n",
        proof: "getent -s files hosts hub.skerry.example | grep -q 192.0.2.10 && grep -q localhost /etc/hosts",
        drift: "sed -i s/192.0.2.10/192.0.2.99/ /etc/hosts",
        difference: "found 192.0.2.99 hub.skerry.example",
    },
    Case {
        kind: "setting",
        via: "",
        files: &[],
        before: "printf '# plain\\nnetwork:\\n  lan: {mtu: 1500}\\n' > /etc/skerry.yaml; printf '{\"a\": 1}\\n' > /etc/skerry.json; printf '[s]\\nx = 1 # c\\n' > /etc/skerry.toml; printf 'A=\"1\"\\n' > /etc/default/skerry",
        clauses: "[[clause]]\nwhat = \"setting:ini\"\nin = \"/etc/systemd/journald.conf\"\nkey = [\"Journal\", \"Storage\"]\nvalue = \"volatile\"\nformat = \"ini\"\n\n[[clause]]\nwhat = \"setting:yaml\"\nin = \"/etc/skerry.yaml\"\nkey = [\"network\", \"lan\", \"mtu\"]\nvalue = 9000\nformat = \"yaml\"\n\n[[clause]]\nwhat = \"setting:json\"\nin = \"/etc/skerry.json\"\nkey = [\"b\"]\nvalue = [1, 2]\nformat = \"json\"\n\n[[clause]]\nwhat = \"setting:toml\"\nin = \"/etc/skerry.toml\"\nkey = [\"s\", \"x\"]\nvalue = 2\nformat = \"toml\"\n\n[[clause]]\nwhat = \"setting:shell\"\nin = \"/etc/default/skerry\"\nkey = [\"A\"]\nvalue = 5\nformat = \"key=value\"\n\n[[clause]]\nwhat = \"setting:login\"\nin = \"/etc/login.defs\"\nkey = [\"UMASK\"]\nvalue = \"027\"\nformat = \"key value\"\n",
        proof: "systemd-analyze cat-config systemd/journald.conf | grep -q ^Storage=volatile && grep -q 'mtu: 9000' /etc/skerry.yaml && grep -q '# plain' /etc/skerry.yaml && grep -q '\"b\": \\[1, 2\\]' /etc/skerry.json && grep -q 'x = 2 # c' /etc/skerry.toml && [ \"$(. /etc/default/skerry; echo $A)\" = 5 ] && grep -Eq '^UMASK\\s+027' /etc/login.defs && [ $(grep -c ^UMASK /etc/login.defs) = 1 ]",
        drift: "sed -i 's/9000/1400/' /etc/skerry.yaml",
        difference: "value: wanted 9000, found 1400",
    },
    Case {
        kind: "package_source",
        via: "",
        files: &[("copies/skerry.asc", "{KEY}")],
        before: "rm -f /etc/apt/sources.list",
        clauses: "[[clause]]\nwhat = \"package_source:skerry\"\nurl = \"http://hub:8080\"\nsuite = \"./\"\nsigned_by = \"skerry.asc\"\nfingerprint = \"{FINGERPRINT}\"\n",
        proof: "apt-get update 2>&1 | grep -q 'hub:8080.*InRelease' && apt-cache policy quay-fonts | grep -q hub:8080",
        drift: "sed -i s,8080,8081, /etc/apt/sources.list.d/skerry.sources",
        difference: "url: wanted http://hub:8080, found http://hub:8081",
    },
    Case {
        kind: "package",
        via: "",
        files: &[],
        before: "",
        clauses: "[[clause]]\nwhat = \"package:kiosk-shell\"\nversion = \"3.2.*\"\n\n[[clause]]\nwhat = \"package:gate-reader\"\nversion = \"2.1.4\"\nhold = true\n\n[[clause]]\nwhat = \"package:logrotate\"\ngone = \"with_settings\"\n",
        proof: "[ \"$(dpkg-query -W -f '${Version}' kiosk-shell)\" = 3.2.4 ] && [ \"$(dpkg-query -W -f '${Version}' gate-reader)\" = 2.1.4 ] && apt-mark showhold | grep -q gate-reader && ! dpkg -s logrotate >/dev/null 2>&1",
        drift: "apt-get install -y --allow-downgrades kiosk-shell=3.1.0 >/dev/null 2>&1",
        difference: "version: wanted 3.2.*, found 3.1.0",
    },
    Case {
        kind: "service",
        via: "",
        files: &[],
        before: "",
        clauses: "[[clause]]\nwhat = \"service:kiosk-shell\"\nrunning = true\nenabled = true\n",
        proof: "systemctl is-active kiosk-shell && systemctl is-enabled kiosk-shell",
        drift: "systemctl stop kiosk-shell; systemctl disable kiosk-shell",
        difference: "running: wanted yes, found no",
    },
    Case {
        kind: "service",
        via: "runit",
        files: &[],
        before: "printf '#!/bin/sh\\nexec sleep infinity\\n' > /tmp/run; mkdir -p /etc/sv/ferry; install -m755 /tmp/run /etc/sv/ferry/run; printf '[Service]\\nExecStart=/usr/bin/runsvdir /etc/service\\n[Install]\\nWantedBy=multi-user.target\\n' > /etc/systemd/system/runsvdir.service; systemctl daemon-reload; systemctl enable -q --now runsvdir",
        clauses: "[[clause]]\nwhat = \"service:ferry\"\nvia = \"runit\"\nrunning = true\nenabled = true\n",
        proof: "sv status ferry | grep -q ^run: && [ -e /etc/service/ferry ] && [ ! -e /etc/sv/ferry/down ]",
        drift: "sv stop ferry",
        difference: "running: wanted yes, found no",
    },
    Case {
        kind: "schedule",
        via: "",
        files: &[],
        before: "",
        clauses: "[[clause]]\nwhat = \"schedule:empty the spool\"\nat = \"15 3 * * *\"\nargv = [\"/usr/bin/kiosk-shell\", \"--note\", \"100 %\"]\naccount = \"ops\"\n",
        proof: "grep -rq '^15 3 \\* \\* \\* ops /usr/bin/kiosk-shell --note' /etc/cron.d && [ -z \"$(find /etc/cron.d -name 'constans-*' -perm /022)\" ]",
        drift: "sed -i 's/^15 3/15 4/' /etc/cron.d/constans-*",
        difference: "at: wanted 15 3 * * *, found 15 4 * * *",
    },
    Case {
        kind: "account",
        via: "",
        files: &[],
        before: "useradd guest",
        clauses: "[[clause]]\nwhat = \"account:kiosk\"\nsystem = true\nshell = \"/usr/sbin/nologin\"\nhome = \"/var/lib/kiosk\"\ngroups = [\"audio\"]\nlocked = true\n\n[[clause]]\nwhat = \"account:guest\"\ngone = true\n",
        proof: "[ \"$(getent passwd kiosk | cut -d: -f6,7)\" = /var/lib/kiosk:/usr/sbin/nologin ] && id -nG kiosk | grep -qw audio && ! id guest 2>/dev/null && passwd -S kiosk | grep -q ' L '",
        drift: "usermod -s /bin/bash kiosk; usermod -aG video kiosk",
        difference: "shell: wanted /usr/sbin/nologin, found /bin/bash",
    },
    Case {
        kind: "account_group",
        via: "",
        files: &[],
        before: "",
        clauses: "[[clause]]\nwhat = \"account_group:quay\"\ngid = 4200\nmembers = [\"ops\"]\n",
        proof: "[ \"$(getent group quay)\" = quay:x:4200:ops ]",
        drift: "gpasswd -d ops quay",
        difference: "members: wanted ops, found none",
    },
    Case {
        kind: "ssh_key",
        via: "",
        files: &[],
        before: "",
        clauses: "[[clause]]\nwhat = \"ssh_key:ilse@hub\"\naccount = \"ops\"\nkey = \"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIEAuken0Brisk0Corran0Dunmoy0Eldrey0Skerry0\"\noptions = [\"restrict\"]\n",
        proof: "grep -q '^restrict ssh-ed25519 AAAAC3' ~ops/.ssh/authorized_keys && [ \"$(stat -c %U:%a ~ops/.ssh/authorized_keys)\" = ops:600 ] && [ \"$(stat -c %U:%a ~ops/.ssh)\" = ops:700 ]",
        drift: "sed -i 's/^restrict //' ~ops/.ssh/authorized_keys",
        difference: "options: wanted restrict, found none",
    },
    Case {
        kind: "kernel_setting",
        via: "",
        files: &[],
        before: "echo 1 > /proc/sys/net/ipv4/ip_forward",
        clauses: "[[clause]]\nwhat = \"kernel_setting:net.ipv4.ip_forward\"\nvalue = 0\n\n[[clause]]\nwhat = \"kernel_setting:net.ipv4.tcp_rmem\"\nvalue = \"4096  131072 6291456\"\n",
        proof: "[ \"$(sysctl -n net.ipv4.ip_forward)\" = 0 ] && grep -q '^net.ipv4.ip_forward = 0' /etc/sysctl.d/zz-constans.conf && sysctl --system >/dev/null 2>&1; [ \"$(sysctl -n net.ipv4.ip_forward)\" = 0 ]",
        drift: "sysctl -qw net.ipv4.ip_forward=1",
        difference: "value: wanted 0, found 1 now, 0 at boot",
    },
    Case {
        kind: "kernel_module",
        via: "",
        files: &[],
        before: "mkdir -p /etc/modprobe.d",
        clauses: "[[clause]]\nwhat = \"kernel_module:usb-storage\"\nbarred = true\n",
        proof: "grep -q '^install usb_storage /bin/false' /etc/modprobe.d/*.conf",
        drift: "rm /etc/modprobe.d/constans-usb_storage.conf",
        difference: "barred: wanted yes, found no",
    },
    Case {
        kind: "mount",
        via: "",
        files: &[],
        before: "mkdir -p /srv/scratch",
        clauses: "[[clause]]\nwhat = \"mount:/srv/scratch\"\ndevice = \"tmpfs\"\nfs = \"tmpfs\"\noptions = [\"noexec\", \"nosuid\", \"size=1m\"]\n",
        proof: "findmnt -no OPTIONS /srv/scratch | grep -q noexec && findmnt --fstab -no OPTIONS /srv/scratch | grep -q size=1m",
        drift: "umount /srv/scratch",
        difference: "mounted: wanted yes, found no",
    },
    Case {
        kind: "trust_anchor",
        via: "",
        files: &[("copies/skerry-line.pem", CERTIFICATE)],
        before: "",
        clauses: "[[clause]]\nwhat = \"trust_anchor:skerry-line\"\ncopy = \"skerry-line.pem\"\n",
        proof: "openssl verify -CAfile /etc/ssl/certs/ca-certificates.crt /usr/local/share/ca-certificates/skerry-line.crt",
        drift: "mv /usr/local/share/ca-certificates/skerry-line.crt /tmp; update-ca-certificates >/dev/null 2>&1; mv /tmp/skerry-line.crt /usr/local/share/ca-certificates",
        difference: "presence: wanted present, found in its folder, not in the store that programs read",
    },
    Case {
        kind: "clock_sources",
        via: "",
        files: &[],
        before: "",
        clauses: "[[clause]]\nwhat = \"clock_sources:system\"\nservers = [\"time.skerry.example\", \"192.0.2.7\"]\n",
        proof: "systemd-analyze cat-config systemd/timesyncd.conf | grep -q '^NTP=time.skerry.example 192.0.2.7'",
        drift: "sed -i s/192.0.2.7/192.0.2.66/ /etc/systemd/timesyncd.conf.d/zz-constans.conf",
        difference: "servers: wanted time.skerry.example 192.0.2.7, found time.skerry.example 192.0.2.66",
    },
    Case {
        kind: "time_zone",
        via: "",
        files: &[],
        before: "",
        clauses: "[[clause]]\nwhat = \"time_zone:system\"\nzone = \"Atlantic/Faroe\"\n",
        proof: "[ \"$(readlink /etc/localtime)\" = /usr/share/zoneinfo/Atlantic/Faroe ]; grep -q Faroe /etc/timezone",
        drift: "ln -sfn /usr/share/zoneinfo/Etc/UTC /etc/localtime",
        difference: "zone: wanted Atlantic/Faroe, found Etc/UTC, but Atlantic/Faroe in /etc/timezone",
    },
    Case {
        kind: "host_name",
        via: "",
        files: &[],
        before: "",
        clauses: "[[clause]]\nwhat = \"host_name:system\"\nname = \"kiosk-auken-1\"\n",
        proof: "[ \"$(hostname)\" = kiosk-auken-1 ] && grep -qx kiosk-auken-1 /etc/hostname",
        drift: "hostname other",
        difference: "name: wanted kiosk-auken-1, found other now, kiosk-auken-1 at boot",
    },
    Case {
        kind: "packet_rule",
        via: "",
        files: &[],
        before: "",
        clauses: "[[clause]]\nwhat = \"packet_rule:the depot may print\"\ndirection = \"in\"\nprotocol = \"tcp\"\nport = 631\nfrom = \"192.0.2.0/24\"\nthen = \"accept\"\n\n[[clause]]\nwhat = \"packet_rule:nobody else prints\"\ndirection = \"in\"\nprotocol = \"tcp\"\nport = 631\nthen = \"drop\"\n\n[[clause]]\nwhat = \"packet_rule:no port 9\"\ndirection = \"out\"\nport = 9\nthen = \"reject\"\n",
        proof: "nft list table inet constans | grep -A3 'chain in' | grep -q 'saddr 192.0.2.0/24 tcp dport 631 accept' && nft list table inet constans | grep -q 'dport 631 drop' && nft -f /etc/nftables.conf && nft list table inet constans | grep -q 'dport 631 drop'",
        drift: "nft flush chain inet constans in",
        difference: "presence: wanted present, found at boot, not now",
    },
    Case {
        kind: "command",
        via: "",
        files: &[],
        before: "",
        clauses: "[[clause]]\nwhat = \"command:index the lanes\"\nargv = [\"/bin/sh\", \"-c\", \"id -un > /srv/queue/../lanes.index\"]\nin_line_when = \"/srv/lanes.index\"\n",
        proof: "[ \"$(cat /srv/lanes.index)\" = root ]",
        drift: "rm /srv/lanes.index",
        difference: "in_line_when: wanted /srv/lanes.index exists, found does not hold",
    },
    Case {
        kind: "listening",
        via: "",
        files: &[],
        before: "systemd-run -q --unit=listen-631 nc -lk 127.0.0.1 631; systemd-run -q --unit=listen-22 nc -lk 0.0.0.0 22; for i in $(seq 100); do ss -ltnH | grep -q :631 && ss -ltnH | grep -q :22 && break; sleep 0.1; done",
        clauses: "[[clause]]\nwhat = \"listening:tcp/22\"\nprogram = \"/usr/bin/nc.openbsd\"\naddress = \"0.0.0.0\"\n\n[[clause]]\nwhat = \"listening:tcp/631\"\ngone = true\n",
        proof: "! ss -ltnH 'sport = :631' | grep -q .",
        drift: "systemctl stop listen-631",
        difference: "presence: wanted gone, found listening: /usr/bin/nc.openbsd on 127.0.0.1",
    },
    Case {
        kind: "connects",
        via: "",
        files: &[],
        before: "systemd-run -q --unit=listen-632 nc -lk 127.0.0.1 632; for i in $(seq 100); do ss -ltnH | grep -q :632 && break; sleep 0.1; done",
        clauses: "[[clause]]\nwhat = \"connects:nothing prints here\"\nto = \"localhost\"\nport = 632\nresult = \"not_accepted\"\n\n[[clause]]\nwhat = \"connects:nothing prints at this address\"\nto = \"127.0.0.1\"\nport = 632\nresult = \"refused\"\n",
        proof: "! nc -z 127.0.0.1 632",
        drift: "systemctl stop listen-632",
        difference: "result: wanted refused, found accepted",
    },
    Case {
        kind: "probe",
        via: "",
        files: &[],
        before: "",
        clauses: "[[clause]]\nwhat = \"probe:the queue is empty\"\nargv = [\"/bin/ls\", \"/srv/probed\"]\nexpect = { exit = 0, stdout = \"^$\" }\n",
        proof: "[ -d /srv/probed ] && [ -z \"$(ls /srv/probed)\" ]",
        drift: "mkdir /srv/probed",
        difference: "expect: wanted exit status 0, and output that fits `^$`, found exit status 2",
    },
];

/// Takes the place of what sets the clock otherwise, so it is tried on a host of its own, which belongs to no fleet by then. The first line of the proof is what
/// chrony itself reads.
const CHRONY: Case = Case {
    kind: "clock_sources",
    via: "chrony",
    files: &[],
    before: "systemctl stop constans-agent 2>/dev/null; rm -rf /var/lib/constans; dpkg --remove systemd-timesyncd >&2; dpkg --install /srv/later/*.deb >&2",
    clauses: "[[clause]]\nwhat = \"clock_sources:system\"\nservers = [\"time.skerry.example\", \"192.0.2.7\"]\n",
    proof: "! chronyd -p | grep -E '^ *(server|pool|peer)' && grep -h ^sourcedir /etc/chrony/chrony.conf | grep -q /etc/chrony/sources.d && [ \"$(cat /etc/chrony/sources.d/*.sources | awk '{print $2}' | xargs)\" = 'time.skerry.example 192.0.2.7' ]",
    drift: "echo 'pool time.corran.example iburst' >> /etc/chrony/chrony.conf",
    difference: "servers: wanted time.skerry.example 192.0.2.7, found time.corran.example time.skerry.example 192.0.2.7",
};

/// Returns the kinds that can be corrected, how someone changes each by hand, and how the system proves it.
pub fn correctable() -> Vec<(String, &'static str, &'static str)> {
    let is_correctable =
        |case: &&Case| constans_core::kind::find(case.kind).is_some_and(|kind| kind.correctable());
    CASES.iter().filter(is_correctable).map(|case| (case.name(), case.drift, case.proof)).collect()
}

/// Goes through all kinds and prints a line each; returns how many failed. What would disturb the others is tried on `apart`.
pub fn all(host: Host<'_>, apart: Host<'_>, texts: &Texts) -> Result<usize, Failed> {
    println!(
        "\n{:16} {:10} {:10} {:10} {:10} {:10} {:>8}",
        "kind", "inspected", "corrected", "verified", "idle again", "drift found", "ms"
    );
    let mut failed = 0;
    for kind in KINDS.iter().filter(|kind| !CASES.iter().any(|case| case.kind == kind.name())) {
        println!("{:16} NOT TESTED", kind.name());
        failed += 1;
    }
    for (host, case) in CASES.iter().map(|case| (host, case)).chain([(apart, &CHRONY)]) {
        let kind =
            constans_core::kind::find(case.kind).ok_or_else(|| format!("there is no kind {}", case.kind))?;
        let began = Instant::now();
        match if kind.correctable() { corrected(host, case, texts) } else { only_seen(host, case, texts) } {
            Ok(()) => {
                let done = if kind.correctable() { "yes" } else { "never" };
                println!(
                    "{:16} {:10} {done:10} {:10} {:10} {:10} {:>8}",
                    case.name(),
                    "yes",
                    "yes",
                    "yes",
                    "yes",
                    began.elapsed().as_millis()
                );
            }
            Err(why) => {
                failed += 1;
                println!("{:16} FAILED: {why}", case.name());
            }
        }
    }
    Ok(failed)
}

/// What is only known when the tests run.
pub struct Texts {
    /// The key that signs the packages, armoured.
    pub key: String,
    /// Its fingerprint, as gpg prints it.
    pub fingerprint: String,
}

impl Texts {
    fn filled(&self, text: &str) -> String {
        text.replace("{KEY}", &self.key).replace("{FINGERPRINT}", &self.fingerprint)
    }
}

fn prepare(host: Host<'_>, case: &Case, texts: &Texts) -> Result<String, Failed> {
    let kit = format!("/srv/kits/{}", case.name().replace([' ', '_'], "-"));
    host.write(
        &format!("{kit}/kit.toml"),
        &format!("[kit]\nname = \"{}\"\nversion = \"1.0.0\"\n", case.name().replace([' ', '_'], "-")),
    )?;
    host.write(
        &format!("{kit}/baselines/one.toml"),
        &texts.filled(&format!("[baseline]\nname = \"one\"\n\n{}", case.clauses)),
    )?;
    for (path, text) in case.files {
        host.write(&format!("{kit}/{path}"), &texts.filled(text))?;
    }
    host.shell(&format!("{{ {}; }}", if case.before.is_empty() { "true" } else { case.before }))?;
    Ok(format!("--kit {kit}"))
}

/// What can be corrected is wrong, seen, put right, proved, idle; then it drifts, is reported as drift, and put right again.
fn corrected(host: Host<'_>, case: &Case, texts: &Texts) -> Result<(), Failed> {
    let kit = prepare(host, case, texts)?;
    let proved = || host.try_shell(case.proof).map(|ended| ended.exit == 0);
    if proved()? {
        return Err("it is as wanted before anything was done: the proof proves nothing".to_owned());
    }
    let seen = host.agent(&format!("observe {kit}"))?;
    must(
        seen.clauses.iter().any(|clause| clause.verdict == Some(Verdict::Different)),
        "observe saw nothing to be put right",
        &seen,
    )?;
    must(!proved()?, "observe changed the host", &seen)?;
    let done = host.agent(&format!("enforce --yes {kit}"))?;
    must(
        done.clauses.iter().all(|clause| matches!(clause.outcome, Outcome::Corrected | Outcome::InLine)),
        "enforce did not put it right",
        &done,
    )?;
    must(proved()?, "the system's own programs do not find it so", &done)?;
    let again = host.agent(&format!("enforce --yes {kit}"))?;
    must(again.status == Status::InLine, "the next run was not idle", &again)?;
    // What is open in the host's programs may end with an error: what counts is what the agent sees.
    host.try_shell(case.drift)?;
    let drifted = host.agent(&format!("observe {kit}"))?;
    must(
        drifted.clauses.iter().any(|clause| clause.cause == Some(Cause::Drift)),
        "what was changed by hand was not reported as drift",
        &drifted,
    )?;
    must(
        differences(&drifted).iter().any(|difference| difference.contains(case.difference)),
        &format!("no difference says `{}`", case.difference),
        &drifted,
    )?;
    let back = host.agent(&format!("enforce --yes {kit}"))?;
    must(back.status == Status::DriftCorrected, "the drift was not corrected", &back)?;
    must(proved()?, "after the drift the system's own programs do not find it so", &back)
}

/// What is only looked at is found wrong, with words, and right when a person has changed it.
fn only_seen(host: Host<'_>, case: &Case, texts: &Texts) -> Result<(), Failed> {
    let kit = prepare(host, case, texts)?;
    let seen = host.agent(&format!("enforce --yes {kit}"))?;
    must(
        differences(&seen).iter().any(|difference| difference.contains(case.difference)),
        &format!("no difference says `{}`", case.difference),
        &seen,
    )?;
    must(seen.status == Status::Unmet, "the run does not say that only a person can change it", &seen)?;
    host.shell(case.drift)?;
    must(host.try_shell(case.proof)?.exit == 0, "the system's own programs do not find it so", &seen)?;
    let again = host.agent(&format!("observe {kit}"))?;
    must(again.status == Status::InLine, "what a person changed was not seen", &again)
}

pub fn differences(report: &RunReport) -> Vec<String> {
    let of = |clause: &ClauseResult| {
        let difference = clause.differences.iter().map(|one| {
            format!("{}: wanted {}, found {}", one.property, one.wanted.words(), one.found.words())
        });
        difference.collect::<Vec<_>>()
    };
    report.clauses.iter().flat_map(of).collect()
}

pub fn must(holds: bool, what: &str, report: &RunReport) -> Result<(), Failed> {
    if holds {
        return Ok(());
    }
    let failures = report.clauses.iter().filter_map(|clause| {
        let failure = clause.failure.as_ref()?;
        let command = failure
            .command
            .as_ref()
            .map(|step| format!(" ({}: {})", step.what, step.output))
            .unwrap_or_default();
        Some(format!("{}: {}{command}", clause.address, failure.message))
    });
    let still = report.clauses.iter().flat_map(|clause| {
        clause.still_different.iter().map(|one| format!("still {}: {}", one.property, one.found.words()))
    });
    let all: Vec<String> = failures.chain(still).chain(differences(report)).collect();
    Err(format!("{what}; status {:?}; {}", report.status, all.join("; ")))
}
