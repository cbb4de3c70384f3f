//! The console is built before the server: without it the server answers with a notice instead of a page.

fn main() {
    println!("cargo:rerun-if-changed=migrations");
    println!("cargo:rerun-if-changed=../../console/dist");
    let built = std::path::Path::new("../../console/dist/index.html");
    if !built.exists() {
        let words = "<!doctype html><title>Constans</title><p>The console was not built with this server: run make console, then build it again.";
        std::fs::create_dir_all("../../console/dist")
            .and_then(|()| std::fs::write(built, words))
            .expect("the folder of the console can be written");
    }
}
