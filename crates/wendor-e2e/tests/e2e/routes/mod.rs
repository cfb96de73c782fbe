//! Routes that hold when servers do not: what an app gets by each fault, offers that come back, room and fairness, hedging, and what is told
//! of it.

mod ending;
mod events;
mod faults;
mod health;
mod hedging;
mod late;
mod loading;
mod presets;
mod room;
mod steering;
mod under_way;
