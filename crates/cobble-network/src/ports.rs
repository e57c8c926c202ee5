//! Ports of loopback for servers that are started beside us.

use std::net::TcpListener;
use std::sync::atomic::{AtomicU32, Ordering};

/// Below the ports that systems assign to outgoing connections: one of those could take a port before its server does.
const FIRST: u16 = 20_000;
const COUNT: u16 = 12_000;

/// A port on which nobody listens. Calls of one process get different ports; those of several processes begin apart.
pub fn free_port() -> Option<u16> {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    let first = std::process::id().wrapping_mul(101);
    let numbers = std::iter::repeat_with(|| first.wrapping_add(NEXT.fetch_add(1, Ordering::Relaxed)));
    let mut ports = numbers.take(COUNT.into()).map(|number| FIRST + (number % u32::from(COUNT)) as u16);
    ports.find(|port| TcpListener::bind(("127.0.0.1", *port)).is_ok())
}

#[cfg(test)]
mod tests {
    #[test]
    fn ports_differ_and_are_free() {
        let first = super::free_port().unwrap();
        let _taken = std::net::TcpListener::bind(("127.0.0.1", first)).unwrap();
        assert_ne!(super::free_port().unwrap(), first);
    }
}
