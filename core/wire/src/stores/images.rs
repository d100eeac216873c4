//! An image service as a store: a disk goes there in one stream, as it is made.

use std::{
    io::{self, Read},
    sync::{
        Mutex, PoisonError,
        mpsc::{Receiver, SyncSender, sync_channel},
    },
    thread::JoinHandle,
    time::Duration,
};

use reformis_disk::error::WireKind;
use ring::digest::{Context, SHA512};

use super::{Done, Parts, Piece, Store, There, sign::hex};
use crate::{
    fault::{Fault, Stop},
    images::{Image, Images},
    link::Link,
};

/// Bytes that are handed over at once.
const PIECE: u64 = 4 << 20;
/// How long a service may take from the last byte on until an image is whole.
const SETTLES: Duration = Duration::from_secs(3600);

/// A stream that is being sent.
struct Stream {
    id: String,
    pieces: SyncSender<Vec<u8>>,
    digest: Context,
    /// The number of the piece that comes next, from 1 on.
    next: u32,
    sender: JoinHandle<Result<(), Fault>>,
}

/// An image service.
pub(super) struct ImageStore {
    images: Images,
    stop: Stop,
    at: String,
    stream: Mutex<Option<Stream>>,
}

/// What comes through a channel, as a reader has it.
struct Incoming {
    pieces: Receiver<Vec<u8>>,
    piece: Vec<u8>,
    at: usize,
}

impl Read for Incoming {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        if self.at == self.piece.len() {
            // The other end says by an empty piece that all is there; one that goes away without it has failed.
            match self.pieces.recv() {
                Ok(piece) if piece.is_empty() => return Ok(0),
                Ok(piece) => (self.piece, self.at) = (piece, 0),
                Err(_) => return Err(io::Error::other("the stream was cut short")),
            }
        }
        let rest = self.piece.get(self.at..).unwrap_or_default();
        let len = rest.len().min(buf.len());
        if let (Some(to), Some(from)) = (buf.get_mut(..len), rest.get(..len)) {
            to.copy_from_slice(from);
        }
        self.at += len;
        Ok(len)
    }
}

/// A stream that broke: what was sent of it is lost, and another try begins at its first byte.
fn broken(fault: Fault) -> Fault {
    match fault {
        Fault::Again { what, .. } => Fault::Fatal(
            WireKind::Unreachable,
            format!("{what}; the disk goes there in one stream, which begins anew each time"),
        ),
        fault => fault,
    }
}

impl ImageStore {
    pub(super) fn new(images: Images, at: &str, stop: Stop) -> Self {
        Self { images, stop, at: at.into(), stream: Mutex::default() }
    }

    /// The whole image of the disk `name`.
    fn whole(&self, name: &str) -> Result<Option<Image>, Fault> {
        Ok(self.images.of_file(name)?.into_iter().find(|image| image.status == "active"))
    }
}

impl Store for ImageStore {
    fn about(&self) -> Result<Vec<String>, Fault> {
        let ours = self.images.ours()?;
        let open = ours.iter().filter(|image| image.status != "active").count();
        Ok(vec![format!("{} images are ours, {open} of them without all of their data", ours.len())])
    }

    fn len_of(&self, name: &str) -> Result<Option<u64>, Fault> {
        Ok(self.whole(name)?.and_then(|image| image.size))
    }

    fn put(&self, name: &str, bytes: &[u8]) -> Result<(), Fault> {
        // It keeps images and nothing else: machine file and receipt stay in the landing's folder. What is empty tries whether an image
        // may be made.
        if bytes.is_empty() {
            self.images.create(&format!("{name}.raw"))?;
        }
        Ok(())
    }

    fn remove(&self, name: &str) -> Result<(), Fault> {
        for image in self.images.of_file(&format!("{name}.raw"))? {
            self.images.remove(&image.id)?;
        }
        Ok(())
    }

    fn address(&self, name: &str) -> String {
        format!("{}/{name}", self.at.trim_end_matches('/'))
    }

    fn link(&self, name: &str) -> Result<Link, Fault> {
        let none = || Fault::Fatal(WireKind::Absent, "there is nothing of this name".into());
        self.images.data(&self.whole(name)?.ok_or_else(none)?.id)
    }

    fn parts(&self) -> Option<&dyn Parts> {
        Some(self)
    }
}

impl Parts for ImageStore {
    fn part(&self, _: u64) -> u64 {
        PIECE
    }

    fn begin(&self, name: &str, _: u64) -> Result<String, Fault> {
        let image = self.images.create(name)?;
        // One piece waits while another one is sent.
        let (pieces, incoming) = sync_channel(1);
        let (images, id) = (self.images.clone(), image.id.clone());
        let sender = std::thread::Builder::new()
            .name("image".into())
            .spawn(move || images.put(&id, Incoming { pieces: incoming, piece: Vec::new(), at: 0 }))
            .map_err(|error| Fault::again(format!("no thread could be had: {error}")))?;
        let stream = Stream { id: image.id.clone(), pieces, digest: Context::new(&SHA512), next: 1, sender };
        *self.stream.lock().unwrap_or_else(PoisonError::into_inner) = Some(stream);
        Ok(image.id)
    }

    fn put_part(&self, _: &str, id: &str, number: u32, piece: &Piece) -> Result<String, Fault> {
        let mut kept = self.stream.lock().unwrap_or_else(PoisonError::into_inner);
        let lost = || Fault::protocol("the stream of another upload was taken for this one");
        let stream = kept.as_mut().filter(|stream| stream.id == id && stream.next == number).ok_or_else(lost)?;
        let bytes = piece.bytes().map_err(|error| fault_of(&error))?;
        stream.digest.update(&bytes);
        stream.next += 1;
        if stream.pieces.send(bytes.into_owned()).is_err() {
            let sender = kept.take().map(|stream| stream.sender);
            let ended = sender.map(|sender| sender.join().unwrap_or_else(|_| Err(Fault::again("it broke"))));
            return Err(match ended {
                Some(Err(fault)) => broken(fault),
                _ => Fault::protocol("it took an image for whole that was not"),
            });
        }
        Ok(number.to_string())
    }

    fn there(&self, _: &str, _: &str) -> Result<Option<There>, Fault> {
        // A stream cannot be gone on with.
        Ok(None)
    }

    fn finish(&self, _: &str, id: &str, _: &[Done], len: u64) -> Result<(), Fault> {
        let stream = self.stream.lock().unwrap_or_else(PoisonError::into_inner).take();
        let Some(stream) = stream.filter(|stream| stream.id == id) else {
            return Err(Fault::protocol("the stream is gone"));
        };
        stream.pieces.send(Vec::new()).ok();
        let Stream { pieces, digest, sender, .. } = stream;
        drop(pieces);
        sender.join().unwrap_or_else(|_| Err(Fault::again("it broke"))).map_err(broken)?;
        let digest = hex(digest.finish().as_ref());
        let begun = std::time::Instant::now();
        let mut wait = Duration::from_millis(50);
        loop {
            let image = self.images.get(id)?;
            match image.status.as_str() {
                "active" => {
                    let is_same = image.os_hash_algo.as_deref() != Some("sha512")
                        || image.os_hash_value.as_deref().is_none_or(|value| value == digest);
                    if is_same && image.size.is_none_or(|size| size == len) {
                        return Ok(());
                    }
                    // It says that it is whole, and nobody is to take it for that.
                    self.images.remove(id)?;
                    let what = "what arrived there is not what was sent".into();
                    return Err(Fault::Fatal(WireKind::Unreachable, what));
                }
                "queued" | "saving" | "importing" | "uploading" if begun.elapsed() < SETTLES => {}
                other => {
                    let what = format!("the image is '{}'", reformis_disk::text::printable(other));
                    return Err(Fault::Fatal(WireKind::Refused, what));
                }
            }
            if !self.stop.sleep(wait) {
                return Err(Fault::again("we were asked to stop"));
            }
            wait = (wait * 2).min(Duration::from_secs(10));
        }
    }

    fn abort(&self, _: &str, id: &str) -> Result<(), Fault> {
        self.images.remove(id)
    }

    fn open(&self, name: &str) -> Result<Vec<(String, String)>, Fault> {
        let open = self.images.ours()?.into_iter().filter(|image| image.status != "active");
        let named = open.filter_map(|image| Some((image.file?, image.id)));
        Ok(named.filter(|(file, _)| file.starts_with(name)).collect())
    }
}

fn fault_of(error: &io::Error) -> Fault {
    Fault::again(format!("what is sent cannot be read: {error}"))
}
