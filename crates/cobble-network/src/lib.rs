//! What every client of a server shares: TLS, threads for network I/O, time limits, free ports, and the steps of a connection test.

pub mod patience;
pub mod ports;
pub mod test_steps;
pub mod threads;
pub mod tls;

pub use test_steps::TestStep;
pub use tls::Tls;
