//! Builds again when a migration is added.

fn main() {
    println!("cargo:rerun-if-changed=migrations");
}
