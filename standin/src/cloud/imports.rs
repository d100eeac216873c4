//! Imports: tasks that make images of objects.

use std::{
    collections::BTreeMap,
    fs,
    io::{self, Read},
    path::{Path, PathBuf},
};

use serde_json::{Value, json};

use super::{
    object,
    rules::{list, refusal, text},
};

/// An import.
#[derive(Debug, Clone, Default)]
pub(super) struct Import {
    /// The key with which it was asked for.
    pub(super) key: String,
    /// What was asked for.
    pub(super) wish: Value,
    pub(super) state: &'static str,
    pub(super) done: u64,
    pub(super) of: u64,
    pub(super) image: Option<String>,
    pub(super) fault: Option<Value>,
}

impl Import {
    /// As it is sent.
    pub(super) fn value(&self, id: &str) -> Value {
        let mut value = json!({ "import": id, "state": self.state, "done": self.done, "of": self.of });
        if let Some(image) = &self.image {
            value["image"] = image.as_str().into();
        }
        if let Some(fault) = &self.fault {
            value["fault"] = fault.clone();
        }
        value
    }
}

/// An image.
#[derive(Debug, Clone)]
pub(super) struct Image {
    pub(super) name: String,
    /// The key of the import that made it.
    pub(super) key: String,
    pub(super) folder: PathBuf,
    /// Bytes of its disks.
    pub(super) bytes: u64,
}

/// The images in `folder`.
pub(super) fn images(folder: &Path) -> BTreeMap<String, Image> {
    let one = |path: PathBuf| {
        let image: Value = serde_json::from_slice(&fs::read(path.join("image.json")).ok()?).ok()?;
        let bytes = image.get("bytes")?.as_u64()?;
        let name = |path: &Path| Some(path.file_name()?.to_string_lossy().into_owned());
        let (name, id, key) = (text(&image, "/name").into(), name(&path)?, text(&image, "/key").into());
        Some((id, Image { name, key, folder: path, bytes }))
    };
    fs::read_dir(folder).into_iter().flatten().flatten().filter_map(|entry| one(entry.path())).collect()
}

/// What the medium for the first start is called in an image's folder.
pub(super) const SEED: &str = "seed.iso";

/// Disks of an image, in its folder.
pub(super) fn disk(folder: &Path, number: usize) -> PathBuf {
    folder.join(format!("disk-{number}.raw"))
}

/// Makes the image that `wish` asks for of the files `objects`, in `folder`, which appears when it is whole.
pub(super) fn make(
    wish: &Value,
    key: &str,
    objects: &[PathBuf],
    seed: Option<&Path>,
    folder: &Path,
    progress: &mut dyn FnMut(u64),
) -> Result<(), Value> {
    let trouble = |error: io::Error| refusal("internal", format!("the cloud has trouble: {error}"), "try again");
    let part = folder.with_extension("part");
    fs::remove_dir_all(&part).ok();
    fs::create_dir_all(&part).map_err(trouble)?;
    let machine = wish.pointer("/launch/machine").unwrap_or(&Value::Null);
    let firmware = text(machine, "/firmware/kind");
    let images = list(wish, "/launch/images");
    let devices = list(machine, "/disks");
    let order = |number: usize| devices.get(number).and_then(|disk| disk.get("boot")?.as_u64()).unwrap_or(u64::MAX);
    let first = (0..images.len()).min_by_key(|number| order(*number));
    let mut before = 0;
    let laid_out = images.iter().zip(objects).enumerate().try_for_each(|(number, (image, file))| {
        let out = disk(&part, number);
        object::lay_out(image, file, &out, &mut |done| progress(before + done))?;
        let size = image.get("size").and_then(Value::as_u64).unwrap_or(0);
        before += size;
        if content_digest(&out, size).map_err(trouble)? != text(image, "/content_digest") {
            return Err(refusal("digest", "the disk is not the one of the launch JSON", "send it again"));
        }
        match object::cannot_boot(&out, firmware).filter(|_| first == Some(number)) {
            Some(why) => Err(refusal(
                "no-boot",
                format!("a machine with {firmware} would not start: {why}"),
                "choose the firmware that the disk was made for",
            )),
            None => Ok(()),
        }
    });
    let made = laid_out.and_then(|()| {
        if let Some(seed) = seed {
            fs::copy(seed, part.join(SEED)).map_err(trouble)?;
        }
        let image = json!({ "name": text(wish, "/name"), "key": key, "bytes": before, "machine": machine });
        fs::write(part.join("image.json"), image.to_string()).map_err(trouble)?;
        fs::rename(&part, folder).map_err(trouble)
    });
    if made.is_err() {
        fs::remove_dir_all(&part).ok();
    }
    made
}

/// The content digest of the raw disk in `file`: over its size and the digests of its blocks of 1 MiB (`docs/receipt.md`).
fn content_digest(file: &Path, size: u64) -> io::Result<String> {
    let (mut file, mut whole, mut block) = (fs::File::open(file)?, blake3::Hasher::new(), vec![0; 1 << 20]);
    whole.update(&size.to_le_bytes());
    let mut at = 0;
    while at < size {
        let len = (size - at).min(block.len() as u64) as usize;
        file.read_exact(&mut block[..len])?;
        whole.update(blake3::hash(&block[..len]).as_bytes());
        at += len as u64;
    }
    Ok(whole.finalize().to_hex().to_string())
}
