//! A way to a server that cuts, stops, closes or changes what passes.

use std::sync::atomic::{AtomicI64, Ordering};
use std::sync::{Arc, Mutex};

use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

const OPEN: i64 = i64::MAX;

/// A way to a server that can be broken.
pub struct Way {
    pub port: u16,
    /// Bytes from the server that still pass.
    left: Arc<AtomicI64>,
    /// What comes when none are left: silence rather than an end.
    silent: Arc<AtomicI64>,
    /// Bytes from the server are changed by chance, one in so many.
    garbled: Arc<Mutex<Option<(StdRng, u32)>>>,
    /// Changed to end all that is open.
    closing: watch::Sender<u64>,
}

impl Way {
    pub async fn to(server: String) -> Way {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let (left, silent) = (Arc::new(AtomicI64::new(OPEN)), Arc::new(AtomicI64::new(0)));
        let garbled = Arc::<Mutex<_>>::default();
        let (closing, closed) = watch::channel(0);
        let way = Way { port, left: left.clone(), silent: silent.clone(), garbled: garbled.clone(), closing };
        tokio::spawn(async move {
            while let Ok((client, _)) = listener.accept().await {
                let (server, left, silent, mut closed) = (server.clone(), left.clone(), silent.clone(), closed.clone());
                let garbled = garbled.clone();
                closed.mark_unchanged();
                tokio::spawn(async move {
                    let Ok(server) = TcpStream::connect(server).await else { return };
                    tokio::select! {
                        () = pass(client, server, &left, &silent, &garbled) => {}
                        _ = closed.changed() => {}
                    }
                });
            }
        });
        way
    }

    pub fn breaks_after(&self, bytes: i64, silent: bool) {
        self.silent.store(silent.into(), Ordering::SeqCst);
        self.left.store(bytes, Ordering::SeqCst);
    }

    /// Changes one byte in so many of what the server sends.
    pub fn garbles(&self, seed: u64, one_in: u32) {
        *self.garbled.lock().unwrap() = Some((StdRng::seed_from_u64(seed), one_in));
    }

    pub fn mend(&self) {
        *self.garbled.lock().unwrap() = None;
        self.left.store(OPEN, Ordering::SeqCst);
    }

    pub fn close_all(&self) {
        self.closing.send_modify(|n| *n += 1);
    }
}

async fn pass(
    mut client: TcpStream,
    mut server: TcpStream,
    left: &AtomicI64,
    silent: &AtomicI64,
    garbled: &Mutex<Option<(StdRng, u32)>>,
) {
    let (mut from_client, mut to_client) = client.split();
    let (mut from_server, mut to_server) = server.split();
    let back = async {
        let mut piece = vec![0; 4096];
        while let Ok(count @ 1..) = from_server.read(&mut piece).await {
            if left.load(Ordering::SeqCst) != OPEN && left.fetch_sub(count as i64, Ordering::SeqCst) < count as i64 {
                if silent.load(Ordering::SeqCst) > 0 {
                    std::future::pending::<()>().await;
                }
                return;
            }
            if let Some((random, one_in)) = &mut *garbled.lock().unwrap() {
                for byte in &mut piece[..count] {
                    match random.random_range(0..*one_in * 2) {
                        0 => *byte = random.random(),
                        1 => *byte ^= 1 << random.random_range(0..8),
                        _ => {}
                    }
                }
            }
            if to_client.write_all(&piece[..count]).await.is_err() {
                return;
            }
        }
    };
    tokio::select! {
        () = back => {}
        _ = tokio::io::copy(&mut from_client, &mut to_server) => {}
    }
}
