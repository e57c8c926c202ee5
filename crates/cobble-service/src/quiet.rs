//! Closes connections of clients that send no request, or take no answer: the web framework waits for them without an end. The kernel's
//! list of sockets (proc(5), `/proc/net/tcp`) says which there are and what waits in them to be taken.

use std::collections::HashMap;
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use nix::sys::socket::{Shutdown, shutdown};
use rocket::fairing::{Fairing, Info, Kind};
use rocket::{Data, Request};

/// How long a client may have no request, its header and the first bytes of its body included.
const NO_REQUEST: Duration = Duration::from_secs(60);
/// How long a client may take nothing of an answer that waits for it.
const NOTHING_TAKEN: Duration = Duration::from_secs(120);
/// How often it is looked.
const EVERY: Duration = Duration::from_secs(5);

/// What a connection has done since when.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Doing {
    /// No request is being answered.
    Nothing,
    /// So many bytes of an answer wait to be taken.
    Taking(u64),
    Waiting,
}

/// Requests that are being answered, by the addresses of their clients.
#[derive(Debug, Default)]
struct Busy(Mutex<HashMap<SocketAddr, usize>>);

impl Busy {
    fn lock(&self) -> MutexGuard<'_, HashMap<SocketAddr, usize>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// One request, until its answer has been written.
struct Answering(Option<(Arc<Busy>, SocketAddr)>);

impl Drop for Answering {
    fn drop(&mut self) {
        let Some((busy, client)) = &self.0 else { return };
        let mut all = busy.lock();
        if let Some(count) = all.get_mut(client) {
            *count -= 1;
            if *count == 0 {
                all.remove(client);
            }
        }
    }
}

/// Notes the requests that are being answered.
pub struct Quiet {
    busy: Arc<Busy>,
}

#[rocket::async_trait]
impl Fairing for Quiet {
    fn info(&self) -> Info {
        Info { name: "quiet connections", kind: Kind::Request }
    }

    async fn on_request(&self, request: &mut Request<'_>, _: &mut Data<'_>) {
        let client = request.remote();
        // It goes with the request, which stays until its answer has been written.
        request.local_cache(|| {
            Answering(client.map(|client| {
                *self.busy.lock().entry(client).or_default() += 1;
                (self.busy.clone(), client)
            }))
        });
    }
}

impl Quiet {
    /// Looks after the connections to this port from now on. Ends when the fairing is dropped.
    pub fn watch(port: u16) -> Quiet {
        let busy: Arc<Busy> = Arc::default();
        let weak = Arc::downgrade(&busy);
        tokio::spawn(async move {
            let mut watch = Watch { port, no_request: NO_REQUEST, nothing_taken: NOTHING_TAKEN, seen: HashMap::new() };
            loop {
                tokio::time::sleep(EVERY).await;
                let Some(busy) = weak.upgrade() else { return };
                let looked = tokio::task::spawn_blocking(move || {
                    watch.look(&busy);
                    watch
                });
                let Ok(back) = looked.await else { return };
                watch = back;
            }
        });
        Quiet { busy }
    }
}

struct Watch {
    port: u16,
    no_request: Duration,
    nothing_taken: Duration,
    /// By the number of its socket what a connection does, and since when.
    seen: HashMap<u64, (Doing, Instant)>,
}

/// A connection to our port.
#[derive(Debug, PartialEq)]
struct Connection {
    client: SocketAddr,
    unsent: u64,
    socket: u64,
}

/// A line of the kernel's list, where it is an open connection to this port.
fn connection(line: &str, port: u16) -> Option<Connection> {
    let fields: Vec<&str> = line.split_whitespace().collect();
    let [_, local, remote, state, queues, _, _, _, _, socket, ..] = fields.as_slice() else { return None };
    let address = |text: &str| {
        let (host, port) = text.split_once(':')?;
        let host = u32::from_str_radix(host, 16).ok()?;
        Some(SocketAddr::from((Ipv4Addr::from(host.to_ne_bytes()), u16::from_str_radix(port, 16).ok()?)))
    };
    if *state != "01" || address(local)?.port() != port {
        return None;
    }
    let unsent = u64::from_str_radix(queues.split_once(':')?.0, 16).ok()?;
    Some(Connection { client: address(remote)?, unsent, socket: socket.parse().ok()? })
}

impl Watch {
    fn look(&mut self, busy: &Busy) {
        let Ok(list) = std::fs::read_to_string("/proc/self/net/tcp") else { return };
        let now = Instant::now();
        let mut seen = HashMap::new();
        let mut lost = Vec::new();
        for open in list.lines().filter_map(|line| connection(line, self.port)) {
            let doing = match (busy.lock().contains_key(&open.client), open.unsent) {
                (false, _) => Doing::Nothing,
                (true, 0) => Doing::Waiting,
                (true, bytes) => Doing::Taking(bytes),
            };
            let since = self.seen.get(&open.socket).filter(|(before, _)| *before == doing).map_or(now, |(_, at)| *at);
            let most = match doing {
                Doing::Nothing => self.no_request,
                Doing::Taking(_) => self.nothing_taken,
                Doing::Waiting => Duration::MAX,
            };
            if now.duration_since(since) >= most {
                lost.push(open.socket);
            }
            seen.insert(open.socket, (doing, since));
        }
        self.seen = seen;
        if !lost.is_empty() {
            tracing::info!(connections = lost.len(), "clients that say or take nothing are let go");
            close(&lost);
        }
    }
}

/// Closes these sockets of this process.
fn close(sockets: &[u64]) {
    let wanted: Vec<String> = sockets.iter().map(|socket| format!("socket:[{socket}]")).collect();
    let Ok(files) = std::fs::read_dir("/proc/self/fd") else { return };
    for file in files.flatten() {
        let is_wanted = |target: std::path::PathBuf| wanted.iter().any(|name| target.as_os_str() == name.as_str());
        let number = file.file_name().to_str().and_then(|name| name.parse().ok());
        if let Some(number) = number
            && std::fs::read_link(file.path()).is_ok_and(is_wanted)
        {
            // One that is gone meanwhile needs no closing.
            let _ = shutdown(number, Shutdown::Both);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::{Read, Write};
    use std::net::{TcpListener, TcpStream};

    #[test]
    fn the_kernels_list_is_read() {
        let line = "   3: 0100007F:1C84 0100007F:A5F2 01 00000A00:00000000 00:00000000 00000000     0        0 812345 1 0000 100 0 0 10 0";
        let client = "127.0.0.1:42482".parse().unwrap();
        assert_eq!(connection(line, 7300), Some(Connection { client, unsent: 2560, socket: 812_345 }));
        assert_eq!((connection(line, 7301), connection("  sl  local_address", 7300)), (None, None));
    }

    #[test]
    fn who_asks_nothing_or_takes_nothing_is_let_go() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        let connect = || {
            let client = TcpStream::connect(address).unwrap();
            client.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
            (client, listener.accept().unwrap().0)
        };
        let (mut silent, _silent_end) = connect();
        let (mut waiting, mut waiting_end) = connect();
        let (mut slow, mut slow_end) = connect();
        let busy = Busy::default();
        busy.lock().extend([(waiting.local_addr().unwrap(), 1), (slow.local_addr().unwrap(), 1)]);
        // More than the buffers on both sides have room for.
        slow_end.set_nonblocking(true).unwrap();
        let piece = vec![b'x'; 1 << 16];
        while slow_end.write(&piece).is_ok() {}
        let most = Duration::from_millis(300);
        let mut watch = Watch { port: address.port(), no_request: most, nothing_taken: most, seen: HashMap::new() };
        watch.look(&busy);
        assert_eq!(watch.seen.len(), 3);
        std::thread::sleep(most * 2);
        watch.look(&busy);
        let mut bytes = [0; 4];
        assert_eq!(silent.read(&mut bytes).unwrap(), 0, "closed");
        // The buffers may have moved on meanwhile, for the last time.
        std::thread::sleep(most * 2);
        watch.look(&busy);
        assert_eq!(slow_end.write(&piece).unwrap_err().kind(), std::io::ErrorKind::BrokenPipe, "closed");
        waiting_end.write_all(b"here").unwrap();
        assert_eq!(waiting.read(&mut bytes).unwrap(), 4, "an answer may take its time");
        drop(slow.read(&mut bytes));
    }
}
