//! The machine itself: its kernel, its file systems, its clock and its name.

use super::{property, required, with_default};
use crate::kind::BuiltInKind;
use crate::kind::claim::Claim;
use crate::kind::property::ValueType;
use crate::kind::row::{KindRow, Naming};

pub(super) const KINDS: &[KindRow] = &[
    KindRow {
        name: BuiltInKind::KernelSetting.name(),
        noun: "kernel setting",
        purpose: "Keeps a sysctl, now and at boot",
        achieves: &["harden the kernel", "turn off ip forwarding", "set a sysctl"],
        properties: &[required(property(
            "value",
            ValueType::SysctlValue,
            "Its value; spaces between several do not count",
        ))],
        naming: Naming::Sysctl,
        can_be_gone: false,
        claim: |name, _| Claim::KernelSetting(name.replace('/', ".")),
        claims: "the setting",
        on_node: "/proc/sys and sysctl.d",
        example: "[[clause]]\nwhat = \"kernel_setting:net.ipv4.ip_forward\"\nvalue = 0\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::KernelModule.name(),
        noun: "kernel module",
        purpose: "Keeps a kernel module loaded, or barred from being loaded",
        achieves: &["load a driver", "block a kernel module", "keep usb storage out"],
        properties: &[
            property("loaded", ValueType::Boolean, "Whether it is loaded, now and at boot"),
            property("barred", ValueType::Boolean, "Whether it cannot be loaded"),
        ],
        either: &["loaded", "barred"],
        needs_either: true,
        can_be_gone: false,
        claim: |name, _| Claim::KernelModule(name.replace('-', "_")),
        claims: "the module",
        on_node: "modprobe.d and modules-load.d",
        example: "[[clause]]\nwhat = \"kernel_module:usb_storage\"\nbarred = true\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::Mount.name(),
        noun: "file system",
        purpose: "Keeps a file system mounted, now and at boot",
        achieves: &["mount a disk", "add to fstab", "mount with noexec", "unmount"],
        properties: &[
            required(property("device", ValueType::Text, "What is mounted, as \"UUID=…\"")),
            required(property("fs", ValueType::Text, "Its type, as \"ext4\"")),
            property("options", ValueType::TextList, "Its options, as [\"noexec\", \"nosuid\"]"),
            with_default(property("mounted", ValueType::Boolean, "Whether it is mounted now"), "true"),
            with_default(property("at_boot", ValueType::Boolean, "Whether it is mounted at boot"), "true"),
        ],
        naming: Naming::Path,
        claim: |name, _| Claim::Mount(name.to_owned()),
        claims: "the mount point",
        on_node: "mount and /etc/fstab",
        example: "[[clause]]\nwhat = \"mount:/var/spool/gateway\"\ndevice = \"LABEL=queue\"\nfs = \"ext4\"\noptions = [\"noexec\", \"nosuid\"]\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::ClockSources.name(),
        noun: "clock's sources",
        purpose: "Keeps the servers that the clock is set by",
        achieves: &["set ntp servers", "keep the time right", "synchronise the clock"],
        properties: &[required(property(
            "servers",
            ValueType::TextList,
            "Their names or addresses, in order",
        ))],
        can_be_gone: false,
        claim: |_, _| Claim::ClockSources,
        claims: "the clock's sources, of which there is one set",
        on_node: "systemd-timesyncd or chrony",
        example: "[[clause]]\nwhat = \"clock_sources:system\"\nservers = [\"time.skerry.example\"]\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::TimeZone.name(),
        noun: "time zone",
        purpose: "Keeps the machine's time zone",
        achieves: &["set the time zone"],
        properties: &[required(property("zone", ValueType::TimeZone, "Its name, as \"Etc/UTC\""))],
        can_be_gone: false,
        claim: |_, _| Claim::TimeZone,
        claims: "the time zone, of which there is one",
        example: "[[clause]]\nwhat = \"time_zone:system\"\nzone = \"Etc/UTC\"\n",
        ..KindRow::PLAIN
    },
    KindRow {
        name: BuiltInKind::HostName.name(),
        noun: "host name",
        purpose: "Keeps the machine's name",
        achieves: &["name the machine", "set the hostname"],
        properties: &[required(property("name", ValueType::HostName, "The name"))],
        can_be_gone: false,
        claim: |_, _| Claim::HostName,
        claims: "the host name, of which there is one",
        example: "[[clause]]\nwhat = \"host_name:system\"\nname = \"{{ node.name }}\"\n",
        ..KindRow::PLAIN
    },
];
