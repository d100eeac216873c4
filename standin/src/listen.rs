//! Listening: a thread for each connection, until the listener is dropped.

use std::{
    collections::BTreeMap,
    io,
    net::{Shutdown, SocketAddr, TcpListener, TcpStream},
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

/// What is in `mutex`, whatever became of whoever had it before.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Takes one of `count`, where there is one.
pub(crate) fn takes(count: &mut u32) -> bool {
    let some = *count > 0;
    *count = count.saturating_sub(1);
    some
}

/// Listens until it is dropped.
pub(crate) struct Listening {
    address: SocketAddr,
    shared: Arc<Shared>,
}

#[derive(Default)]
struct Shared {
    ended: AtomicBool,
    /// Connections that are open, by the addresses at their other ends.
    open: Mutex<BTreeMap<SocketAddr, TcpStream>>,
}

impl Shared {
    fn open(&self) -> MutexGuard<'_, BTreeMap<SocketAddr, TcpStream>> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Listening {
    /// Listens with `listener`, and lets `talk` have each connection; when it returns, the connection is closed.
    pub(crate) fn start(
        listener: TcpListener,
        talk: impl Fn(TcpStream) -> io::Result<()> + Send + Sync + 'static,
    ) -> io::Result<Self> {
        let (address, shared, talk) = (listener.local_addr()?, Arc::new(Shared::default()), Arc::new(talk));
        let serving = shared.clone();
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                if serving.ended.load(Ordering::Relaxed) {
                    return;
                }
                let Ok(peer) = stream.peer_addr() else { continue };
                serving.open().extend(stream.try_clone().map(|stream| (peer, stream)));
                let (shared, talk) = (serving.clone(), talk.clone());
                std::thread::spawn(move || {
                    talk(stream).ok();
                    // Nobody holds it now: it is closed, whatever was still to be read.
                    shared.open().remove(&peer);
                });
            }
        });
        Ok(Self { address, shared })
    }

    /// Where it listens.
    pub(crate) fn address(&self) -> SocketAddr {
        self.address
    }

    /// Breaks all connections.
    pub(crate) fn cut(&self) {
        for stream in std::mem::take(&mut *self.shared.open()).into_values() {
            // The other end is told at once that nobody reads, and not when a window opens.
            rustix::net::sockopt::set_socket_linger(&stream, Some(Duration::ZERO)).ok();
            stream.shutdown(Shutdown::Both).ok();
        }
    }
}

impl Drop for Listening {
    fn drop(&mut self) {
        self.shared.ended.store(true, Ordering::Relaxed);
        // It listens until somebody comes.
        TcpStream::connect(self.address).ok();
        self.cut();
    }
}
