//! Files and block devices on other machines, by SSH.
//!
//! The connection is made by the user's own `ssh`: its agents, keys, known hosts, jump hosts and settings are those that the
//! person knows, and one connection carries any number of channels. What runs in them is SFTP, spoken here; where a machine has
//! none, a `dd` for each piece.

mod channel;
mod dd;
mod file;
mod packet;
mod pool;
mod session;
mod sftp;

use channel::Channel;
pub use packet::{Reader as PacketReader, Reply};
use reformis_disk::error::WireKind;

pub(crate) use file::open;
pub(crate) use pool::Pool;
pub(crate) use session::{Session, Way};

use crate::{fault::Fault, http::Listing, link::Link};

/// The most names of a folder.
const MANY: usize = 4096;

/// What is in the folder at `link`; `None` where it is no folder.
pub(crate) fn list(pool: &Pool, link: &Link) -> Result<Option<Listing>, Fault> {
    let path = path_of(link);
    match pool
        .with(|channel| Ok(if channel.stat(&path)?.is_folder() { Some(channel.list(&path, MANY)?) } else { None }))
    {
        // Without SFTP, nothing is listed; of what is not there, opening it tells.
        Err(Fault::Fatal(WireKind::Refused | WireKind::Absent, _)) => Ok(None),
        other => other,
    }
}

/// The path that a link means there: what begins with `/~/` lies below the user's own folder.
fn path_of(link: &Link) -> String {
    match link.path.strip_prefix("/~/") {
        Some(relative) => relative.into(),
        None if link.path.is_empty() => "/".into(),
        None => link.path.clone(),
    }
}

/// Speaks SFTP with what `input` says, as a server's bytes are in a test or a fuzzer: opens a file, reads it, lists a folder.
///
/// # Errors
/// What the protocol's errors are.
pub fn converse(input: &[u8]) -> Result<usize, Fault> {
    let mut channel = Channel::over(std::io::Cursor::new(input.to_vec()), std::io::sink())?;
    let mut seen = 0;
    let file = channel.open("/disk");
    if let Ok(handle) = file {
        let mut buf = vec![0; 300_000];
        seen += usize::from(channel.read(&handle, 5, &mut buf).is_ok());
    }
    seen += channel.list("/", MANY).map_or(0, |found| found.files.len());
    seen += usize::from(channel.real_path("/x").is_ok());
    Ok(seen)
}
