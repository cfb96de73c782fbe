//! Makes Cargo look for new migrations, which the crate embeds.

fn main() {
    println!("cargo:rerun-if-changed=migrations");
}
