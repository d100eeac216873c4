//! Our server of network block devices, judged by a client that shares no code with it, and by the emulator.

mod clients;
mod guarded;

use std::{
    fs::File,
    path::{Path, PathBuf},
    sync::{Arc, Mutex},
};

use reformis_disk::{
    Disk, Error, Extent, Result,
    scratch::{Scratch, Writable},
};
use reformis_wire::nbd::serve::{At, Event, Export, Guard, Server};

use crate::common::content;

const SIZE: u64 = 3 << 20;

/// A disk of known bytes, with holes.
struct Known(Vec<u8>);

impl Disk for Known {
    fn size(&self) -> u64 {
        self.0.len() as u64
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        let from = offset as usize;
        let bytes = self.0.get(from..from + buf.len());
        buf.copy_from_slice(bytes.ok_or(Error::OutOfRange { offset, len: buf.len() as u64, size: self.size() })?);
        Ok(())
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        let rest = &self.0[offset as usize..];
        let zeros = rest.iter().take_while(|byte| **byte == 0).count() as u64;
        let data = rest.iter().take_while(|byte| **byte != 0).count() as u64;
        Ok(if zeros > 4096 { Extent::zero(offset, zeros) } else { Extent::data(offset, zeros + data) })
    }

    fn check_unchanged(&self) -> Result<()> {
        Ok(())
    }
}

fn scratch(folder: &Path) -> Arc<Scratch> {
    let path = folder.join("scratch");
    let file = File::options().read(true).write(true).create(true).truncate(false).open(path).unwrap();
    let base = Arc::new(Known(content(SIZE as usize)));
    Arc::new(match file.metadata().unwrap().len() {
        0 => Scratch::create(file, "scratch", base).unwrap(),
        _ => Scratch::open(file, "scratch", base).unwrap(),
    })
}

type Events = Arc<Mutex<Vec<Event>>>;

fn serve(at: &At, disks: Vec<Export>, guard: Option<Guard>) -> (Server, Events) {
    let events = Events::default();
    let told = events.clone();
    let server = Server::start(at, disks, guard, Arc::new(move |event| told.lock().unwrap().push(event))).unwrap();
    (server, events)
}

fn at_socket(folder: &Path, disk: Arc<dyn Writable>) -> (Server, PathBuf, Events) {
    let path = folder.join("s");
    let (server, events) = serve(&At::Socket(path.clone()), vec![Export::writable("disk", disk)], None);
    (server, path, events)
}

/// Bytes that are not all the same.
fn pattern(byte: u8, len: usize) -> Vec<u8> {
    (0..len).map(|at| byte.wrapping_add((at / 97) as u8)).collect()
}
