//! Real servers, started for a test on a free port of this machine, and ended with it; and a line between them and a client that
//! is slow, or breaks.

mod authority;
mod emulator_nbd;
mod glance;
mod nginx;
pub mod postgres;
mod proxy;
pub mod scripts;
mod sshd;

use std::{
    net::{TcpListener, TcpStream},
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use anyhow::{Result, bail};
pub use authority::Authority;
pub use emulator_nbd::NbdServer;
pub use glance::Glance;
pub use nginx::Nginx;
pub use postgres::Postgres;
pub use proxy::Proxy;
pub use sshd::Sshd;

/// A port that nobody listens at.
///
/// # Errors
/// There is none.
pub fn free_port() -> Result<u16> {
    Ok(TcpListener::bind("127.0.0.1:0")?.local_addr()?.port())
}

/// Waits until somebody listens at `port`.
fn wait_for_port(port: u16) -> Result<()> {
    let start = Instant::now();
    while TcpStream::connect(("127.0.0.1", port)).is_err() {
        if start.elapsed() > Duration::from_secs(20) {
            bail!("nobody listens at port {port}");
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    Ok(())
}

/// Whether the program `name` is installed.
pub fn is_installed(name: &str) -> bool {
    let mut command = Command::new("sh");
    command.args(["-c", &format!("PATH=$PATH:/usr/sbin:/sbin command -v {name}")]);
    command.stdout(Stdio::null()).status().is_ok_and(|status| status.success())
}
