//! Tells Cargo when the embedded console has changed.

fn main() {
    // A build of the console adds and removes files, which the compiler does not see by itself.
    println!("cargo:rerun-if-changed=../../console/dist");
}
