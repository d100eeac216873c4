//! Disks without a machine: one file, several in an archive, or what can only be read forwards.

use std::{path::Path, sync::Arc};

use reformis_disk::{
    Format, Storage, formats,
    source::{Archive, Links, Stream, wrapped},
};

use super::{Kind, Part, StreamFacts, Target, TargetDisk, source_file};
use crate::{
    error::Result,
    finding::{self, Finding},
};

/// Looks at the start of what can only be read forwards.
pub(super) fn open_stream(stream: &Stream, path: &Path) -> Result<Target> {
    let id = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
    let mut head = vec![0; formats::HEAD as usize];
    stream.visit(&mut std::io::empty(), &|_| {}, false, &mut |bytes, _| {
        let filled = wrapped::fill(bytes, &mut head, stream.name(), 0)?;
        head.truncate(filled);
        Ok(())
    })?;
    let inner = Path::new(stream.name()).with_extension("");
    let format = formats::detect_stream(&head, &inner.to_string_lossy());
    let size = stream.storage().map_or(0, |storage| storage.len());
    let stream_facts = StreamFacts { compression: stream.kind().into(), format, size };
    let files = stream.storage().map(|storage| source_file(storage.as_ref(), None)).into_iter().collect();
    let finding = Finding::LooksPacked { file: id.clone(), kind: stream.kind().into() };
    let disk = TargetDisk { id, parts: Vec::new(), image: None, stream: Some(stream_facts), size: 0 };
    Ok(Target {
        name: path.to_string_lossy().into(),
        kind: Kind::Stream,
        described: None,
        disks: vec![disk],
        files,
        findings: vec![finding],
    })
}

pub(super) fn open_disk(storage: Arc<dyn Storage>, path: &Path, links: Links) -> Result<Target> {
    let image = formats::Opener::new(links).open(storage.clone(), None)?;
    let id = path.file_name().unwrap_or(path.as_os_str()).to_string_lossy().into_owned();
    let findings = finding::of_image(&id, &image.facts);
    let size = image.facts.virtual_size;
    Ok(Target {
        name: path.to_string_lossy().into(),
        kind: Kind::Disk,
        described: None,
        disks: vec![TargetDisk {
            id,
            parts: vec![Part { storage, entry: None }],
            image: Some(image),
            stream: None,
            size,
        }],
        files: Vec::new(),
        findings,
    })
}

/// The disks in an archive that holds no machine; what is no disk is passed over.
pub(super) fn open_archive(archive: &Archive, path: &Path) -> Target {
    let mut findings = super::package::of_archive(archive);
    let mut disks = Vec::new();
    for member in archive.members() {
        let id = member.name.clone();
        if let Some(method) = &member.packed {
            let facts = StreamFacts { compression: method.clone(), format: None, size: member.len };
            let format = Path::new(&id).extension().and_then(|e| e.to_str()).and_then(Format::from_extension);
            if format.is_some() {
                let stream = Some(StreamFacts { format, ..facts });
                disks.push(TargetDisk { id, parts: Vec::new(), image: None, stream, size: 0 });
            }
            continue;
        }
        let Ok(storage) = archive.member(&id) else { continue };
        let Ok(image) = formats::Opener::default().open(storage.clone(), None) else { continue };
        findings.extend(finding::of_image(&id, &image.facts));
        let size = image.facts.virtual_size;
        let parts = vec![Part { storage, entry: None }];
        disks.push(TargetDisk { id, parts, image: Some(image), stream: None, size });
    }
    if disks.is_empty() {
        findings.push(Finding::NoDisk);
    }
    Target {
        name: path.to_string_lossy().into(),
        kind: Kind::Archive,
        described: None,
        disks,
        files: vec![source_file(archive.storage().as_ref(), None)],
        findings,
    }
}
