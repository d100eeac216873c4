//! Disks without a machine: one file, several in an archive, or what can only be read forwards.

use reformis_disk::to_usize;
use std::{path::Path, sync::Arc};

use reformis_disk::{
    Format, Storage,
    container::{self, Archive, Source, Stream, packed},
    format,
    source::Links,
};

use super::{
    Kind, Opening, Part, StreamFacts, Target, TargetDisk, source_file,
    unpack::{self, Unpacked},
};
use crate::{
    error::Result,
    finding::{self, Finding},
};

/// Looks at the start of what can only be read forwards.
pub(super) fn open_stream(stream: &Stream, path: &Path) -> Result<Target> {
    let id = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
    let mut head = vec![0; to_usize(format::HEAD)];
    stream.visit(&mut std::io::empty(), &|_| {}, false, &mut |bytes, _| {
        let filled = packed::fill(bytes, &mut head, stream.name(), 0)?;
        head.truncate(filled);
        Ok(())
    })?;
    let inner = Path::new(stream.name()).with_extension("");
    let format = format::detect_stream(&head, &inner.to_string_lossy());
    let size = stream.storage().map_or(0, |storage| storage.len());
    let stream_facts = StreamFacts { compression: stream.kind().into(), format, size };
    let files = stream.storage().map(|storage| source_file(storage.as_ref(), None)).into_iter().collect();
    let finding = Finding::LooksPacked { file: id.clone(), kind: stream.kind().into() };
    let disk = TargetDisk { id, parts: Vec::new(), image: None, stream: Some(stream_facts), size: 0 };
    Ok(Target {
        budget: stream.budget().clone(),
        name: path.to_string_lossy().into(),
        kind: Kind::Stream,
        described: None,
        disks: vec![disk],
        files,
        findings: vec![finding],
    })
}

/// The disk in `storage`, which lies at `path` or was unpacked from there.
pub(super) fn open_disk(
    storage: Arc<dyn Storage>,
    path: &Path,
    unpacked: Option<&Unpacked>,
    links: Links,
) -> Result<Target> {
    let image = format::opener(links).open(storage.clone(), None)?;
    let budget = storage.budget().clone();
    let id = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
    let findings = finding::of_image(&id, &image.facts);
    let size = image.facts.virtual_size;
    let part = unpacked.and_then(|unpacked| unpacked.part(None)).unwrap_or_else(|| Part::plain(storage, None));
    Ok(Target {
        budget,
        name: path.to_string_lossy().into(),
        kind: Kind::Disk,
        described: None,
        disks: vec![TargetDisk { id, parts: vec![part], image: Some(image), stream: None, size }],
        files: Vec::new(),
        findings,
    })
}

/// The disks in an archive that holds no machine; what is no disk is passed over.
pub(super) fn open_archive(archive: &Archive, path: &Path, opening: &Opening<'_>) -> Result<Target> {
    let mut findings = super::package::of_archive(archive);
    let mut disks = Vec::new();
    for member in archive.members() {
        let id = member.name.clone();
        let source = container::locate_in(archive.storage().clone(), Some(&id)).and_then(Source::unwrapped);
        let (storage, part) = match source {
            Ok(Source::Storage(storage)) => (storage.clone(), Part::plain(storage, None)),
            // By its name: of what is packed, only the start can be looked at.
            Ok(Source::Stream(stream)) if is_called_disk(&id) => match &opening.unpack {
                Some(unpack) => {
                    let unpacked = unpack.spool(&stream, None)?;
                    findings.push(unpack::spooled(&stream));
                    let storage = unpacked.storage()?;
                    (storage.clone(), unpacked.part(None).unwrap_or_else(|| Part::plain(storage, None)))
                }
                None => {
                    findings.push(Finding::LooksPacked { file: id.clone(), kind: stream.kind().into() });
                    let format = format_of_name(&id);
                    let stream = StreamFacts { compression: stream.kind().into(), format, size: member.len };
                    disks.push(TargetDisk { id, parts: Vec::new(), image: None, stream: Some(stream), size: 0 });
                    continue;
                }
            },
            _ => continue,
        };
        let Ok(image) = format::opener(reformis_disk::source::Links::default()).open(storage, None) else {
            continue;
        };
        findings.extend(finding::of_image(&id, &image.facts));
        let size = image.facts.virtual_size;
        disks.push(TargetDisk { id, parts: vec![part], image: Some(image), stream: None, size });
    }
    if disks.is_empty() {
        findings.push(Finding::NoDisk);
    }
    Ok(Target {
        budget: opening.budget.clone(),
        name: path.to_string_lossy().into(),
        kind: Kind::Archive,
        described: None,
        disks,
        files: vec![source_file(archive.storage().as_ref(), None)],
        findings,
    })
}

/// The format that a name's ending stands for, below one that says how it is packed.
fn format_of_name(name: &str) -> Option<Format> {
    let inner = packed::inner_name(name);
    Path::new(&inner).extension().and_then(|ending| ending.to_str()).and_then(Format::from_extension)
}

fn is_called_disk(name: &str) -> bool {
    format_of_name(name).is_some()
}
