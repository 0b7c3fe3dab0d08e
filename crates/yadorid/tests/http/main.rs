//! The HTTP interface in process: no network, and an engine with a database of its own for each test.

mod answering;
mod contract;
mod document;
mod routing;
