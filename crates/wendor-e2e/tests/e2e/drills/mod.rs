//! The drills: what goes wrong with machines, disks and databases, while apps go on asking. `scripts/test` runs the short form of each,
//! `scripts/drill NAME` the whole, which is told by `WENDOR_DRILL=full`.

mod chart;
mod crash;
mod database;
mod disk;
mod drain;
mod fairness;
mod gates;
mod load;
mod outage;
pub mod zoo;

/// Whether the whole drill is wanted.
pub(super) fn is_full() -> bool {
    std::env::var("WENDOR_DRILL").is_ok_and(|form| form == "full")
}

/// How much of it is done.
pub(super) fn of<T>(short: T, full: T) -> T {
    if is_full() { full } else { short }
}

/// What was found, for whoever runs the drill.
pub(super) fn tell(found: &str) {
    eprintln!("drill: {found}");
}
