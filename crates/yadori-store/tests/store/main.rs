//! The store, with a real database: what is written comes back, and what devices tell is merged as the core does it.

mod applying;
mod queries;
mod records;
mod servers;
mod support;
mod upgrading;
