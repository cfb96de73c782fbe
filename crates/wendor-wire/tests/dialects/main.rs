//! The dialects, held against requests that real clients sent and replies that they accepted.

#[cfg(test)]
mod answers;
#[cfg(test)]
mod claims;
#[cfg(test)]
mod cuts;
#[cfg(test)]
mod documentation;
#[cfg(test)]
mod edges;
#[cfg(test)]
mod escapes;
#[cfg(test)]
mod fuzz;
#[cfg(test)]
mod grammar;
#[cfg(test)]
mod leaves;
#[cfg(test)]
mod linear;
#[cfg(test)]
mod mends;
#[cfg(test)]
mod prompts;
#[cfg(test)]
mod refusals;
#[cfg(test)]
mod round_trip;
#[cfg(test)]
mod sources;
#[cfg(test)]
mod streams;
#[cfg(test)]
mod vectors;
