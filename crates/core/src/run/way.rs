//! Which changes may cut a node's way to its server, or an operator's way in.

use crate::kind::Claim;
use crate::state::Clause;

/// Files by which a machine is reached and reaches others: addresses, names, routes, filters, trust, access.
const PATHS: [&str; 16] = [
    "/etc/network",
    "/etc/netplan",
    "/etc/systemd/network",
    "/etc/systemd/resolved",
    "/etc/NetworkManager",
    "/etc/sysconfig/network",
    "/etc/resolv",
    "/etc/hosts",
    "/etc/nsswitch.conf",
    "/etc/gai.conf",
    "/etc/nftables",
    "/etc/sysctl",
    "/etc/ssl",
    "/etc/ssh",
    "/etc/pam.d",
    "/usr/local/share/ca-certificates",
];

/// Parts of the names of services and packages that have to do with it.
const NAMES: [&str; 12] = [
    "net",
    "resolv",
    "dhcp",
    "dns",
    "nft",
    "firewall",
    "wpa",
    "ssh",
    "openvpn",
    "wireguard",
    "ssl",
    "ca-certificates",
];

/// Returns whether correcting a clause may cut the node's way to its server, or change who gets in.
pub fn may_cut_the_way(clause: &Clause) -> bool {
    let name_has = |name: &str| NAMES.iter().any(|part| name.to_lowercase().contains(part));
    let path_is = |path: &str| PATHS.iter().any(|known| path.starts_with(known));
    match &clause.claim {
        Claim::PacketRule(_)
        | Claim::TrustAnchor(_)
        | Claim::HostName
        | Claim::ClockSources
        | Claim::SshKey(..) => true,
        Claim::KernelSetting(name) => name.starts_with("net."),
        Claim::KernelModule(_) => true,
        Claim::Service(name) | Claim::Package(name) => name_has(name),
        Claim::Path(path) => path_is(path),
        Claim::Key(path, _) | Claim::Line(path, _) => path_is(path),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::state::testing::clause;

    #[test]
    fn what_has_to_do_with_network_and_access_is_guarded_and_nothing_else() {
        for address in [
            "packet_rule:x",
            "kernel_setting:net.ipv4.ip_forward",
            "service:systemd-networkd",
            "file:/etc/resolv.conf",
            "package:openssh-server",
        ] {
            assert!(may_cut_the_way(&clause(address)), "{address}");
        }
        for address in [
            "file:/etc/kiosk/shell.conf",
            "package:kiosk-shell",
            "kernel_setting:kernel.kptr_restrict",
            "account:ops",
            "command:x",
        ] {
            assert!(!may_cut_the_way(&clause(address)), "{address}");
        }
    }
}
