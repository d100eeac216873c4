//! A file or a device that is read by SFTP.

use std::{
    sync::Arc,
    time::{Duration, Instant, UNIX_EPOCH},
};

use reformis_disk::{
    error::WireKind,
    source::{Access, Version},
};

use super::{MANY, channel::Channel, packet::Attributes, path_of, pool::Pool};
use crate::{
    fault::{Fault, Stop},
    link::Link,
    remote::{Limits, Remote},
};

/// Below this round trip, a machine is near.
const NEAR: Duration = Duration::from_millis(4);
/// Channels at the same time, to a machine that is near and to others. OpenSSH has at most 2 MiB under way in each.
const CHANNELS_NEAR: usize = 2;
const CHANNELS_FAR: usize = 6;

/// A file on another machine.
pub(super) struct SftpFile {
    name: String,
    link: Link,
    path: String,
    pool: Arc<Pool>,
    len: u64,
    attributes: Attributes,
    depth: usize,
}

impl SftpFile {
    /// Opens the file or device at `link`.
    pub(super) fn open(pool: &Arc<Pool>, link: &Link, depth: Option<usize>) -> Result<Self, Fault> {
        let pool = pool.clone();
        let path = path_of(link);
        let ((attributes, len), round_trip) =
            pool.with(|channel| Ok((measure(channel, &path)?, channel.round_trip())))?;
        // One connection carries them all: what more channels give is more bytes under way, which a near machine does not need,
        // and each costs a program at both ends.
        let depth = depth.unwrap_or(if round_trip < NEAR { CHANNELS_NEAR } else { CHANNELS_FAR });
        Ok(Self { name: link.to_string(), link: link.clone(), path, pool, len, attributes, depth })
    }
}

/// What is known of `path`, and its length in bytes.
fn measure(channel: &mut Channel, path: &str) -> Result<(Attributes, u64), Fault> {
    let attributes = channel.stat(path)?;
    if attributes.is_folder() {
        return Err(Fault::Fatal(WireKind::Refused, "it is a folder".into()));
    }
    if attributes.is_file() {
        let len = attributes.size.ok_or_else(|| Fault::protocol("the machine does not say how long it is"))?;
        return Ok((attributes, len));
    }
    if !attributes.is_block_device() {
        return Err(Fault::Fatal(WireKind::Refused, "it is neither a file nor a block device".into()));
    }
    let len = match size_in_sysfs(channel, path) {
        Some(len) => len,
        None => search_end(channel, path)?,
    };
    Ok((attributes, len))
}

/// The length of a block device, as Linux shows it: sectors of 512 bytes (Documentation/ABI/stable/sysfs-block).
fn size_in_sysfs(channel: &mut Channel, path: &str) -> Option<u64> {
    let real = channel.real_path(path).ok()?;
    let device = real.strip_prefix("/dev/")?.replace('/', "!");
    let path = format!("/sys/class/block/{device}/size");
    let handle = channel.open(&path).ok()?;
    let mut text = Vec::new();
    // Its length is not known, so that it is read as far as it goes.
    for at in 0..20 {
        let mut byte = [0];
        match channel.read(&handle, at, &mut byte) {
            Ok(()) if byte[0].is_ascii_digit() => text.push(byte[0]),
            _ => break,
        }
    }
    channel.close(&path);
    let sectors: u64 = String::from_utf8(text).ok()?.parse().ok()?;
    sectors.checked_mul(512).filter(|len| *len > 0)
}

/// The length of what can be read, found by trying.
fn search_end(channel: &mut Channel, path: &str) -> Result<u64, Fault> {
    let handle = channel.open(path)?;
    if !channel.has(&handle, 0)? {
        return Ok(0);
    }
    // A byte is at `low`, and none at `high`.
    let (mut low, mut high) = (0, 512);
    while channel.has(&handle, high)? {
        low = high;
        high = high.checked_mul(2).filter(|high| *high < 1 << 60).ok_or_else(|| Fault::protocol("it has no end"))?;
    }
    while high - low > 1 {
        let middle = low + (high - low) / 2;
        if channel.has(&handle, middle)? { low = middle } else { high = middle }
    }
    Ok(high)
}

impl Remote for SftpFile {
    fn name(&self) -> &str {
        &self.name
    }

    fn len(&self) -> u64 {
        self.len
    }

    fn version(&self) -> Version {
        match self.attributes.modified.filter(|_| self.attributes.is_file()) {
            Some(seconds) => Version::Modified(UNIX_EPOCH + Duration::from_secs(seconds.into())),
            None => Version::Unknown,
        }
    }

    fn access(&self) -> Access {
        // What everybody may read there, everybody may read here.
        let is_open = self.attributes.is_file() && self.attributes.mode.is_some_and(|mode| mode & 0o004 != 0);
        crate::steady::access(!is_open)
    }

    fn limits(&self) -> Limits {
        Limits { piece: 4 << 20, depth: self.depth }
    }

    fn fetch(&self, at: u64, buf: &mut [u8], _: &Stop) -> Result<(), Fault> {
        let start = Instant::now();
        self.pool.with(|channel| {
            let handle = channel.open(&self.path)?;
            channel.read(&handle, at, buf)
        })?;
        if self.pool.session().measured(buf.len() as u64, start.elapsed()) {
            self.pool.clear();
        }
        Ok(())
    }

    fn check(&self, _: &Stop) -> Result<(), Fault> {
        if self.attributes.is_block_device() {
            return Ok(());
        }
        let now = self.pool.with(|channel| channel.stat(&self.path))?;
        let is_same = now.size == self.attributes.size && now.modified == self.attributes.modified;
        if is_same { Ok(()) } else { Err(Fault::Changed("its length or its modification time is another one".into())) }
    }

    fn sibling(&self, name: &str, _: &Stop) -> Result<Arc<dyn Remote>, Fault> {
        let link = self.link.beside(name);
        let (folder, path) = (path_of(&self.link.with_path(self.link.folder())), path_of(&link));
        // A link in the folder may not lead out of it: what lies there was put there by strangers.
        let (folder, real, attributes) = self.pool.with(|channel| {
            let attributes = channel.stat(&path)?;
            Ok((channel.real_path(&folder)?, channel.real_path(&path)?, attributes))
        })?;
        let inside = real.strip_prefix(folder.trim_end_matches('/')).is_some_and(|rest| rest.starts_with('/'));
        if !inside || !attributes.is_file() {
            return Err(Fault::Fatal(WireKind::Refused, "it leads out of its folder, or is no plain file".into()));
        }
        Ok(Arc::new(Self::open(&self.pool, &link, Some(self.depth))?))
    }

    fn neighbours(&self, _: &Stop) -> Result<Vec<String>, Fault> {
        let folder = path_of(&self.link.with_path(self.link.folder()));
        Ok(self.pool.with(|channel| channel.list(&folder, MANY))?.files)
    }
}
