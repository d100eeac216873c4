//! Unified kernel images (UAPI group, "Unified Kernel Image"): a program of the firmware that a kernel, its early boot image, its
//! parameters and its names are parts of.

use std::io::{self, Read};

use crate::{
    formats::pe::{self, Section},
    fs::tree::{OpenFile, Tree},
};

/// Bytes of the head that tell where the parts are.
const HEAD: usize = 16 << 10;
/// The longest part that is a text.
const MAX_TEXT: u64 = 64 << 10;

/// A file that is such an image.
pub(crate) struct Unified {
    file: OpenFile,
    parts: Vec<Section>,
}

impl Unified {
    /// The image at `path`; `None` when it is none.
    pub(crate) fn open(tree: &Tree, path: &str) -> Option<Self> {
        if !path.ends_with(".efi") {
            return None;
        }
        let file = tree.noted(path, tree.open_file(path))?;
        let mut head = vec![0; HEAD];
        let len = tree.noted(path, file.fill(0, &mut head))?;
        let parts = pe::sections(head.get(..len)?);
        // A kernel alone is a program of the firmware too.
        parts.iter().any(|part| part.name == ".linux").then_some(Self { file, parts })
    }

    fn part(&self, name: &str) -> Option<&Section> {
        self.parts.iter().find(|part| part.name == name)
    }

    fn text(&self, name: &str) -> Option<String> {
        let part = self.part(name).filter(|part| part.len <= MAX_TEXT)?;
        let mut bytes = vec![0; usize::try_from(part.len).ok()?];
        let len = self.file.fill(part.at, &mut bytes).ok()?;
        let text = String::from_utf8_lossy(bytes.get(..len)?);
        Some(text.trim_end_matches(['\0', '\n', ' ']).to_string())
    }

    /// The kernel's version.
    pub(crate) fn version(&self) -> Option<String> {
        self.text(".uname").filter(|version| !version.is_empty())
    }

    /// The early boot image in it.
    pub(crate) fn early_image(self) -> Option<impl Read> {
        let part = self.part(".initrd")?.clone();
        Some(io::BufReader::with_capacity(1 << 20, PartReader { file: self.file, at: part.at, left: part.len }))
    }

    pub(crate) fn has_early_image(&self) -> bool {
        self.part(".initrd").is_some()
    }

    /// What the system in it is called.
    pub(crate) fn title(&self) -> Option<String> {
        let release = self.text(".osrel")?;
        super::release::assignments(&release).find(|(name, _)| *name == "PRETTY_NAME").map(|(_, value)| value)
    }

    /// The kernel's parameters.
    pub(crate) fn parameters(&self) -> Option<String> {
        self.text(".cmdline")
    }
}

/// The bytes of a part.
struct PartReader {
    file: OpenFile,
    at: u64,
    left: u64,
}

impl Read for PartReader {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = usize::try_from(self.left).unwrap_or(usize::MAX).min(buf.len());
        let read = self.file.fill(self.at, buf.get_mut(..len).unwrap_or_default()).map_err(io::Error::other)?;
        self.at += read as u64;
        self.left -= read as u64;
        Ok(read)
    }
}

/// All images below `base` with their paths, the newest first.
pub(super) fn find(tree: &Tree, base: &str) -> Vec<(String, Unified)> {
    let folder = format!("{base}/EFI/Linux");
    let names = tree.names(&folder).into_iter().rev();
    let of = |name: String| {
        let path = format!("{folder}/{name}");
        Unified::open(tree, &path).map(|image| (path, image))
    };
    names.filter_map(of).collect()
}
