//! The running service, as apps, people and operators meet it. The modules are marked as tests, so that the lints know.

#[cfg(test)]
mod admission;
#[cfg(test)]
mod attacks;
#[cfg(test)]
mod catalogue;
#[cfg(test)]
mod changing;
#[cfg(test)]
mod client;
#[cfg(test)]
mod connecting;
#[cfg(test)]
mod console;
#[cfg(test)]
mod diagnosis;
#[cfg(test)]
mod dialects;
#[cfg(test)]
mod drills;
#[cfg(test)]
mod errors;
#[cfg(test)]
mod failover;
mod faults;
#[cfg(test)]
mod first_minutes;
#[cfg(test)]
mod fits;
#[cfg(test)]
mod keys;
#[cfg(test)]
mod ledger;
#[cfg(test)]
mod liberties;
#[cfg(test)]
mod management;
#[cfg(test)]
mod manners;
#[cfg(test)]
mod outage;
#[cfg(test)]
mod quotas;
#[cfg(test)]
mod recording;
#[cfg(test)]
mod records;
#[cfg(test)]
mod routes;
#[cfg(test)]
mod secrets;
#[cfg(test)]
mod serving;
#[cfg(test)]
mod vectors;
