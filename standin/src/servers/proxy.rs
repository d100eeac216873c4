//! A line between a client and a server: slow, and cut where a test wants it.

use std::{
    io::{Read, Write},
    net::{Shutdown, SocketAddr, TcpListener, TcpStream},
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering},
        mpsc::sync_channel,
    },
    thread,
    time::{Duration, Instant},
};

use anyhow::Result;

/// A line to a server.
pub struct Proxy {
    address: SocketAddr,
    state: Arc<State>,
}

struct State {
    to: SocketAddr,
    delay: Duration,
    /// Bytes towards the client after which a connection is cut, and how many cuts are left.
    cut_after: AtomicU64,
    cuts: AtomicI64,
    made: AtomicU64,
    refused: AtomicBool,
    ended: AtomicBool,
    streams: Mutex<Vec<TcpStream>>,
}

impl Proxy {
    /// A line to `to`, with `delay` in each direction.
    ///
    /// # Errors
    /// No port is free.
    pub fn start(to: SocketAddr, delay: Duration) -> Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0")?;
        let address = listener.local_addr()?;
        let state = Arc::new(State {
            to,
            delay,
            cut_after: AtomicU64::new(u64::MAX),
            cuts: AtomicI64::new(0),
            made: AtomicU64::new(0),
            refused: AtomicBool::new(false),
            ended: AtomicBool::new(false),
            streams: Mutex::default(),
        });
        let serving = state.clone();
        thread::spawn(move || {
            for client in listener.incoming().flatten() {
                if serving.ended.load(Ordering::Relaxed) {
                    return;
                }
                if serving.refused.load(Ordering::Relaxed) {
                    continue;
                }
                let state = serving.clone();
                thread::spawn(move || state.join(&client).ok());
            }
        });
        Ok(Self { address, state })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Cuts each connection after `bytes` towards the client, `times` times in all.
    pub fn cut_after(&self, bytes: u64, times: i64) {
        self.state.cut_after.store(bytes, Ordering::SeqCst);
        self.state.cuts.store(times, Ordering::SeqCst);
    }

    /// How many cuts were made.
    pub fn cuts(&self) -> u64 {
        self.state.made.load(Ordering::SeqCst)
    }

    /// Breaks all connections, and refuses others while `refused`.
    pub fn refuse(&self, refused: bool) {
        self.state.refused.store(refused, Ordering::SeqCst);
        let mut streams = self.state.streams.lock().unwrap_or_else(PoisonError::into_inner);
        streams.drain(..).for_each(|stream| drop(stream.shutdown(Shutdown::Both)));
    }
}

impl State {
    fn join(&self, client: &TcpStream) -> std::io::Result<()> {
        let server = TcpStream::connect(self.to)?;
        client.set_nodelay(true)?;
        server.set_nodelay(true)?;
        self.streams.lock().unwrap_or_else(PoisonError::into_inner).extend([client.try_clone()?, server.try_clone()?]);
        thread::scope(|scope| {
            scope.spawn(|| self.pump(client, &server, false));
            self.pump(&server, client, true);
        });
        Ok(())
    }

    /// Carries bytes in one direction.
    fn pump(&self, mut from: &TcpStream, mut to: &TcpStream, is_counted: bool) {
        let (sender, receiver) = sync_channel::<(Instant, Vec<u8>)>(1024);
        thread::scope(|scope| {
            scope.spawn(move || {
                for (at, bytes) in receiver {
                    thread::sleep(at.saturating_duration_since(Instant::now()));
                    if to.write_all(&bytes).is_err() {
                        break;
                    }
                }
                to.shutdown(Shutdown::Write).ok();
            });
            let (mut buf, mut seen) = (vec![0; 64 << 10], 0);
            while let Ok(len @ 1..) = from.read(&mut buf) {
                seen += len as u64;
                let is_due = is_counted && seen >= self.cut_after.load(Ordering::SeqCst);
                if is_due && self.cuts.fetch_sub(1, Ordering::SeqCst) > 0 {
                    self.made.fetch_add(1, Ordering::SeqCst);
                    from.shutdown(Shutdown::Both).ok();
                    to.shutdown(Shutdown::Both).ok();
                    break;
                }
                if sender.send((Instant::now() + self.delay, buf[..len].to_vec())).is_err() {
                    break;
                }
            }
            drop(sender);
        });
    }
}

impl Drop for Proxy {
    fn drop(&mut self) {
        self.state.ended.store(true, Ordering::Relaxed);
        TcpStream::connect(self.address).ok();
        self.refuse(true);
    }
}
