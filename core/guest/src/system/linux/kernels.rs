//! The kernels of a system, each with its modules and its early boot images.

use serde::Serialize;

use super::{entry::Entry, unified::Unified, version};
use crate::fs::tree::Tree;

/// A kernel.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Kernel {
    /// Its version, as its modules' folder is called; its file's name where that is not known.
    pub version: String,
    /// Path of its file.
    pub image: String,
    /// Paths of its early boot images.
    pub initrds: Vec<String>,
    /// The folder of its modules; `None` when it has none.
    pub modules: Option<String>,
    /// Whether an entry of the loader starts it.
    pub listed: bool,
    /// Whether its early boot image is a part of its own file, to which nothing can be added.
    pub is_unified: bool,
}

/// All kernels that the loader starts or that lie where kernels lie: those of the loader first, then the newest first.
pub(super) fn find(tree: &Tree, entries: &[Entry]) -> Vec<Kernel> {
    let versions = tree.names("/lib/modules");
    let mut found: Vec<Kernel> = Vec::new();
    for entry in entries.iter().filter(|entry| tree.exists(&entry.kernel)) {
        let initrds = entry.initrds.iter().filter(|path| tree.exists(path)).cloned();
        match found.iter_mut().find(|kernel| kernel.image == entry.kernel) {
            Some(kernel) => {
                let new: Vec<String> = initrds.filter(|path| !kernel.initrds.contains(path)).collect();
                kernel.initrds.extend(new);
            }
            None => found.push(kernel(tree, &versions, &entry.kernel, initrds.collect(), true)),
        }
    }
    let mut names = tree.names("/boot");
    names.sort_by(|one, other| version::compare(other, one));
    for name in names {
        let path = format!("/boot/{name}");
        let is_kernel = ["vmlinuz", "kernel-", "bzImage", "vmlinux-"].iter().any(|start| name.starts_with(start));
        let is_link = tree.stat_link(&path).is_ok_and(|stat| stat.kind != crate::fs::node::Kind::File);
        if !is_kernel || is_link || found.iter().any(|kernel| kernel.image == path) {
            continue;
        }
        let suffix = name.split_once('-').map_or("", |(_, suffix)| suffix);
        let guesses = [
            format!("/boot/initrd.img-{suffix}"),
            format!("/boot/initramfs-{suffix}.img"),
            format!("/boot/initrd-{suffix}"),
            format!("/boot/initramfs-{suffix}"),
        ];
        let initrds = guesses.into_iter().filter(|path| tree.exists(path)).collect();
        found.push(kernel(tree, &versions, &path, initrds, false));
    }
    found
}

fn kernel(tree: &Tree, versions: &[String], image: &str, initrds: Vec<String>, listed: bool) -> Kernel {
    let name = image.rsplit('/').next().unwrap_or(image);
    // The folder that the file's name ends with or that the path goes through; else what the kernel says itself.
    let by_name =
        versions.iter().filter(|version| name.ends_with(*version) || image.split('/').any(|part| part == *version));
    let by_name = by_name.max_by_key(|version| version.len()).cloned();
    let own = || Unified::open(tree, image).map_or_else(|| own_version(tree, image), |unified| unified.version());
    let version = by_name.or_else(own);
    let modules = version.as_ref().map(|version| format!("/lib/modules/{version}"));
    Kernel {
        modules: modules.filter(|folder| tree.exists(format!("{folder}/modules.dep"))),
        version: version.unwrap_or_else(|| name.into()),
        image: image.into(),
        is_unified: initrds.iter().any(|path| path == image),
        initrds,
        listed,
    }
}

/// The version in a kernel's setup header (Linux, `Documentation/arch/x86/boot.rst`, field `kernel_version`).
#[expect(clippy::indexing_slicing, reason = "the head was read with its length")]
fn own_version(tree: &Tree, image: &str) -> Option<String> {
    let head = tree.head(image, 64 << 10).ok()?;
    if head.get(0x202..0x206)? != b"HdrS" {
        return None;
    }
    let at = usize::from(u16::from_le_bytes([head[0x20e], head[0x20f]])) + 0x200;
    let text = head.get(at..)?.split(|byte| *byte == 0).next()?;
    let word = std::str::from_utf8(text).ok()?.split_whitespace().next()?;
    (word.len() < 128).then(|| word.to_string())
}
