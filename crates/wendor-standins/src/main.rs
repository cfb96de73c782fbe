//! `wendor-standins`: runs stand-ins, lets them fail, and makes the demo's traffic and past. What each command does is in the
//! library.

mod command;

fn main() -> anyhow::Result<()> {
    // Installed by the first who asks; a second one finds it there.
    let _installed = rustls::crypto::ring::default_provider().install_default();
    command::run()
}
