//! The running service, as apps, people and operators meet it.

mod admission;
mod catalogue;
mod client;
mod failover;
mod keys;
mod ledger;
mod management;
mod outage;
mod quotas;
mod secrets;
mod serving;
mod vectors;
