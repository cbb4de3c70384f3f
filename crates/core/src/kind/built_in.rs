//! The kinds that every agent of this version knows. Code for each of them matches on [`BuiltInKind`], so
//! that the compiler leads a new kind to every place.

macro_rules! built_in_kinds {
    ($($kind:ident $name:literal,)*) => {
        /// A kind that Constans brings, and not a kit.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        #[expect(missing_docs, reason = "the table of kinds says what each is for")]
        pub enum BuiltInKind {
            $($kind,)*
        }

        impl BuiltInKind {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$kind,)*];

            /// Returns its name, the part of an address before the `:`.
            pub const fn name(self) -> &'static str {
                match self {
                    $(Self::$kind => $name,)*
                }
            }

            /// Returns the kind of this name; none for a custom one or one that only a newer version has.
            pub fn of(name: &str) -> Option<Self> {
                match name {
                    $($name => Some(Self::$kind),)*
                    _ => None,
                }
            }
        }
    };
}

built_in_kinds! {
    File "file",
    Directory "directory",
    Tree "tree",
    Link "link",
    Line "line",
    Setting "setting",
    Package "package",
    PackageSource "package_source",
    Service "service",
    Schedule "schedule",
    Account "account",
    AccountGroup "account_group",
    SshKey "ssh_key",
    KernelSetting "kernel_setting",
    KernelModule "kernel_module",
    Mount "mount",
    TrustAnchor "trust_anchor",
    ClockSources "clock_sources",
    TimeZone "time_zone",
    HostName "host_name",
    PacketRule "packet_rule",
    Listening "listening",
    Connects "connects",
    Probe "probe",
    Command "command",
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kind::KINDS;
    use std::collections::BTreeSet;

    #[test]
    fn the_table_declares_each_of_them_once_and_no_other() {
        let declared: Vec<&str> = KINDS.iter().map(|kind| kind.name()).collect();
        let all: BTreeSet<&str> = BuiltInKind::ALL.iter().map(|kind| kind.name()).collect();
        assert_eq!(declared.len(), all.len());
        assert_eq!(declared.into_iter().collect::<BTreeSet<_>>(), all);
    }
}
