//! By what a server knows that a node runs on its own machine.

use crate::digest;

/// The scheme of names of machines.
const SCHEME: &str = "m1";

/// Returns the name of a machine, made of its machine-id: that itself must not leave the machine, machine-id(5). None if it is no
/// machine-id.
pub fn machine_name(machine_id: &str) -> Option<String> {
    let machine_id = machine_id.trim();
    let is_one = machine_id.len() == 32 && machine_id.bytes().all(|digit| digit.is_ascii_hexdigit());
    is_one.then(|| digest::of_value(SCHEME, &machine_id.to_ascii_lowercase()).as_str().to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_machine_is_named_by_its_id_which_is_not_told() {
        let id = "3d1219c7c4c5404aaa1f6d2a48adfda4";
        let name = machine_name(&format!("{id}\n")).unwrap();
        assert!(name.starts_with("m1:") && !name.contains(&id[..8]), "{name}");
        assert_eq!(machine_name(&id.to_uppercase()), Some(name.clone()));
        assert_ne!(machine_name("00000000000000000000000000000001"), Some(name));
        for none in ["", "uninitialized", "3d1219c7c4c5404aaa1f6d2a48adfda"] {
            assert_eq!(machine_name(none), None);
        }
    }
}
