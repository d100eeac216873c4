//! What a store keeps: objects, and uploads that are not finished.

use std::{collections::BTreeMap, fs, io, path::PathBuf};

use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use super::{refusal::Refusal, signature::hex};

/// The least bytes of a part that is not the last.
const LEAST: u64 = 5 << 20;
/// The most parts.
const MANY: u32 = 10_000;

/// What goes wrong. Counts are of times to come: each one that goes wrong takes one away.
#[derive(Debug, Clone, Default)]
pub struct Faults {
    /// Breaks the connection after so many bytes of a body, so many times.
    pub cut: Option<(u64, u32)>,
    /// Is busy so many times.
    pub busy: u32,
    /// Does what it is asked for, and breaks the connection in place of the answer, so many times.
    pub lost: u32,
    /// Says that an upload is finished, and then in the same answer that it is not, so many times.
    pub late: u32,
}

/// A part in a list: number, bytes and tag.
pub(super) type Listed = (u32, u64, String);

#[derive(Serialize, Deserialize)]
struct Part {
    len: u64,
    tag: String,
    /// The sum it came with.
    sum: Option<String>,
}

#[derive(Serialize, Deserialize)]
struct Begun {
    key: String,
    /// Whether parts come with CRC-32C.
    is_summed: bool,
    parts: BTreeMap<u32, Part>,
}

/// A part as an upload is finished with it: number, tag and, where it came with one, its sum.
pub(super) type Wanted = (u32, String, Option<String>);

/// The sum of a body.
#[derive(Debug, Clone)]
pub(super) enum Sum {
    /// SHA-256, in hexadecimal digits.
    Sha256(String),
    /// CRC-32C, in base64.
    Crc32c(String),
}

impl Sum {
    /// The tag of `len` bytes that have it.
    fn tag(&self, len: usize) -> String {
        match self {
            Self::Sha256(digest) => tag(digest),
            Self::Crc32c(sum) => format!("\"{}-{len}\"", sum.trim_end_matches('=')),
        }
    }
}

/// All of it.
pub(super) struct Kept {
    folder: PathBuf,
    /// Objects by their keys: bytes and tag.
    objects: BTreeMap<String, (u64, String)>,
    uploads: BTreeMap<String, Begun>,
    next: u32,
    /// The most bytes that there may be.
    pub(super) quota: u64,
}

impl Kept {
    pub(super) fn new(folder: PathBuf) -> io::Result<Self> {
        fs::create_dir_all(folder.join("parts"))?;
        let mut kept = Self { folder, objects: BTreeMap::new(), uploads: BTreeMap::new(), next: 0, quota: u64::MAX };
        // Uploads outlive the store's own process; one whose list was being written is as old as its last whole list.
        for entry in fs::read_dir(kept.folder.join("parts"))?.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            let begun = name.strip_suffix(".json").zip(serde_json::from_slice(&fs::read(entry.path())?).ok());
            kept.uploads.extend(begun.map(|(id, begun)| (id.to_string(), begun)));
        }
        for entry in fs::read_dir(&kept.folder)?.flatten().filter(|entry| entry.path().is_file()) {
            let name = entry.file_name().to_string_lossy().into_owned();
            let key = super::signature::decoded(&name);
            // An object keeps its tag when the store is started anew: whoever reads it sees the same version.
            let (len, tag) = match fs::read_to_string(kept.tag_of(&key)) {
                Ok(tag) => (entry.metadata()?.len(), tag),
                Err(_) => {
                    let bytes = fs::read(entry.path())?;
                    (bytes.len() as u64, tag(&hex(&Sha256::digest(&bytes))))
                }
            };
            kept.objects.insert(key, (len, tag));
        }
        Ok(kept)
    }

    /// The file of an object. Its name cannot leave the folder: it has no slash.
    pub(super) fn file(&self, key: &str) -> PathBuf {
        let name: String = key
            .bytes()
            .map(|byte| match byte {
                b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'_' => char::from(byte).to_string(),
                b'.' => ".".into(),
                _ => format!("%{byte:02X}"),
            })
            .collect();
        self.folder.join(name.strip_prefix('.').map(|rest| format!("%2E{rest}")).unwrap_or(name))
    }

    /// The file with the tag of an object.
    fn tag_of(&self, key: &str) -> PathBuf {
        let name = self.file(key);
        self.folder.join("parts").join(format!("{}.tag", name.file_name().unwrap_or_default().to_string_lossy()))
    }

    fn part(&self, id: &str, number: u32) -> PathBuf {
        self.folder.join("parts").join(format!("{id}-{number}"))
    }

    pub(super) fn objects(&self) -> Vec<(String, u64)> {
        self.objects.iter().map(|(key, (len, _))| (key.clone(), *len)).collect()
    }

    pub(super) fn object(&self, key: &str) -> Option<&(u64, String)> {
        self.objects.get(key)
    }

    /// Uploads that are not finished, of keys that begin with `prefix`: key and name.
    pub(super) fn uploads(&self, prefix: &str) -> Vec<(String, String)> {
        let uploads = self.uploads.iter().filter(|(_, begun)| begun.key.starts_with(prefix));
        uploads.map(|(id, begun)| (begun.key.clone(), id.clone())).collect()
    }

    fn room(&self, len: u64) -> Result<(), Refusal> {
        let objects: u64 = self.objects.values().map(|(len, _)| len).sum();
        let parts: u64 = self.uploads.values().flat_map(|begun| begun.parts.values()).map(|part| part.len).sum();
        match objects + parts + len > self.quota {
            true => Err(Refusal::new(403, "QuotaExceeded")),
            false => Ok(()),
        }
    }

    /// Puts an object.
    pub(super) fn put(&mut self, key: &str, bytes: &[u8], sum: &Sum) -> Result<String, Refusal> {
        self.room(bytes.len() as u64)?;
        let tag = sum.tag(bytes.len());
        let written = fs::write(self.tag_of(key), &tag).and_then(|()| fs::write(self.file(key), bytes));
        written.map_err(|_| Refusal::new(500, "InternalError"))?;
        self.objects.insert(key.into(), (bytes.len() as u64, tag.clone()));
        Ok(tag)
    }

    pub(super) fn remove(&mut self, key: &str) {
        fs::remove_file(self.file(key)).ok();
        fs::remove_file(self.tag_of(key)).ok();
        self.objects.remove(key);
    }

    pub(super) fn begin(&mut self, key: &str, is_summed: bool) -> Result<String, Refusal> {
        let id = loop {
            self.next += 1;
            let id = format!("u{}-{}", self.next, std::process::id());
            if !self.uploads.contains_key(&id) {
                break id;
            }
        };
        self.uploads.insert(id.clone(), Begun { key: key.into(), is_summed, parts: BTreeMap::new() });
        self.write(&id)?;
        Ok(id)
    }

    /// Writes down what there is of an upload: in one step, so that a store that is killed has the one list or the other.
    fn write(&self, id: &str) -> Result<(), Refusal> {
        let path = self.folder.join("parts").join(format!("{id}.json"));
        let new = path.with_extension("new");
        let bytes = serde_json::to_vec(&self.uploads.get(id)).unwrap_or_default();
        fs::write(&new, bytes).and_then(|()| fs::rename(&new, &path)).map_err(|_| Refusal::new(500, "InternalError"))
    }

    fn upload(&self, key: &str, id: &str) -> Result<&Begun, Refusal> {
        self.uploads.get(id).filter(|begun| begun.key == key).ok_or_else(|| Refusal::new(404, "NoSuchUpload"))
    }

    pub(super) fn put_part(
        &mut self,
        key: &str,
        id: &str,
        number: u32,
        bytes: &[u8],
        sum: &Sum,
    ) -> Result<String, Refusal> {
        if self.upload(key, id)?.is_summed != matches!(sum, Sum::Crc32c(_)) {
            return Err(Refusal::new(400, "InvalidRequest"));
        }
        if !(1..=MANY).contains(&number) {
            return Err(Refusal::new(400, "InvalidArgument"));
        }
        self.room(bytes.len() as u64)?;
        fs::write(self.part(id, number), bytes).map_err(|_| Refusal::new(500, "InternalError"))?;
        let tag = sum.tag(bytes.len());
        let sum = match sum {
            Sum::Sha256(_) => None,
            Sum::Crc32c(sum) => Some(sum.clone()),
        };
        let part = Part { len: bytes.len() as u64, tag: tag.clone(), sum };
        self.uploads.get_mut(id).map(|begun| begun.parts.insert(number, part));
        self.write(id)?;
        Ok(tag)
    }

    /// The parts behind `after`, at most `many`, and whether there are more.
    pub(super) fn parts(&self, key: &str, id: &str, after: u32, many: usize) -> Result<(Vec<Listed>, bool), Refusal> {
        let begun = self.upload(key, id)?;
        let mut rest = begun.parts.range(after + 1..).map(|(number, part)| (*number, part.len, part.tag.clone()));
        let some = rest.by_ref().take(many).collect();
        Ok((some, rest.next().is_some()))
    }

    /// Makes an object of the parts `wanted`.
    pub(super) fn finish(&mut self, key: &str, id: &str, wanted: &[Wanted]) -> Result<String, Refusal> {
        let begun = self.upload(key, id)?;
        if wanted.is_empty() {
            return Err(Refusal::new(400, "MalformedXML"));
        }
        if wanted.windows(2).any(|pair| pair[0].0 >= pair[1].0) {
            return Err(Refusal::new(400, "InvalidPartOrder"));
        }
        for (index, (number, tag, sum)) in wanted.iter().enumerate() {
            let part = begun.parts.get(number).filter(|part| part.tag == *tag && part.sum == *sum);
            let part = part.ok_or_else(|| Refusal::new(400, "InvalidPart"))?;
            if part.len < LEAST && index + 1 < wanted.len() {
                return Err(Refusal::new(400, "EntityTooSmall"));
            }
        }
        let failed = |_| Refusal::new(500, "InternalError");
        // A store that is killed has the object or the upload, and never a half of both.
        let new = self.folder.join("parts").join(format!("{id}.whole"));
        let mut whole = fs::File::create(&new).map_err(failed)?;
        let (mut len, mut tags) = (0, String::new());
        for (number, tag, _) in wanted {
            len +=
                io::copy(&mut fs::File::open(self.part(id, *number)).map_err(failed)?, &mut whole).map_err(failed)?;
            tags += tag;
        }
        let tag = format!("\"{}-{}\"", &hex(&Sha256::digest(tags))[..32], wanted.len());
        fs::write(self.tag_of(key), &tag).and_then(|()| fs::rename(&new, self.file(key))).map_err(failed)?;
        self.abort(key, id)?;
        self.objects.insert(key.into(), (len, tag.clone()));
        Ok(tag)
    }

    pub(super) fn abort(&mut self, key: &str, id: &str) -> Result<(), Refusal> {
        let numbers: Vec<u32> = self.upload(key, id)?.parts.keys().copied().collect();
        // Its list goes first: without it, there is no upload.
        drop(fs::remove_file(self.folder.join("parts").join(format!("{id}.json"))));
        numbers.into_iter().for_each(|number| drop(fs::remove_file(self.part(id, number))));
        self.uploads.remove(id);
        Ok(())
    }
}

/// The tag of what has this digest.
fn tag(digest: &str) -> String {
    format!("\"{}\"", &digest[..32])
}
