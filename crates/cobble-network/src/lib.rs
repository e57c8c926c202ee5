//! What every client of a server shares: TLS, threads for network I/O, time limits, free ports, the steps of a
//! connection test, which files of this machine may be used, and how the command signs in at the service of the same user.

pub mod local_access;
pub mod patience;
pub mod ports;
pub mod roots;
pub mod test_steps;
pub mod threads;
pub mod tls;

pub use test_steps::TestStep;
pub use tls::Tls;
