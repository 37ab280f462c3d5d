//! The console is built before the service that serves it.

use std::path::Path;

fn main() {
    let pages = "../../console/dist";
    println!("cargo::rerun-if-changed={pages}");
    if !Path::new(pages).join("index.html").exists() {
        println!("cargo::error=the console is not built yet: run `make console` first");
    }
}
