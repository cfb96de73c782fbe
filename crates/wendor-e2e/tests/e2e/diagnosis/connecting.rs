//! Bringing a server in, as the command does it.
