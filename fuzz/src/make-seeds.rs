//! Writes real inputs into `corpus/`, from which the fuzzers start.

use std::{fs, path::Path, sync::Arc};

use reformis_disk::{Disk, disk::EmptyDisk, formats, pipeline, source::MemoryStorage};
use reformis_standin::{
    content::Content,
    export,
    ova::{self, ManifestKind},
};

/// `disk` in `shape`, as bytes.
fn write(disk: &dyn Disk, shape: &str) -> Vec<u8> {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let path = folder.path().join("seed");
    let file = fs::File::create(&path).expect("a file");
    let shape = shape.parse().expect("a shape");
    let mut writer = formats::create(file, "seed".into(), shape, disk.size()).expect("a writer");
    let watch = pipeline::Watch { cancel: &|| false, progress: &|_| {}, workers: Some(1) };
    pipeline::copy(disk, writer.as_mut(), &watch).expect("a copy");
    fs::read(path).expect("the copy")
}

/// With the table at byte 512 and the blocks at 1024.
fn small_vdi(image: &[u8]) -> Vec<u8> {
    let mut small = image[..512].to_vec();
    small[0x154..0x158].copy_from_slice(&512u32.to_le_bytes());
    small[0x158..0x15c].copy_from_slice(&1024u32.to_le_bytes());
    small.resize(70_000, 0);
    small
}

/// With the metadata at 320 KiB, and the table behind it.
fn small_vhdx(image: &[u8]) -> Vec<u8> {
    let (metadata, table) = (320u64 << 10, 400u64 << 10);
    let mut small = image[..320 << 10].to_vec();
    small.extend(&image[2 << 20..(2 << 20) + (80 << 10)]);
    small.resize((400 << 10) + 64, 0);
    for at in [192usize << 10, 256 << 10] {
        for (entry, place) in [(0, table), (1, metadata)] {
            let offset = at + 16 + entry * 32 + 16;
            small[offset..offset + 8].copy_from_slice(&place.to_le_bytes());
        }
        small[at + 4..at + 8].fill(0);
        let sum = crc32c::crc32c(&small[at..at + (64 << 10)]);
        small[at + 4..at + 8].copy_from_slice(&sum.to_le_bytes());
    }
    small
}

fn main() {
    let corpus = Path::new(env!("CARGO_MANIFEST_DIR")).join("corpus");
    let put = |target: &str, name: &str, bytes: &[u8]| {
        fs::create_dir_all(corpus.join(target)).expect("a folder for seeds");
        fs::write(corpus.join(target).join(name), bytes).expect("a seed");
    };
    let content = Content::empty(300_032).with(0, 1500, 1).with(140_000, 70_000, 2);
    let stream = export::stream_vmdk_of(&content, "seed.vmdk").expect("a stream in memory");
    put("image", "stream.vmdk", &stream);

    let image = formats::open(Arc::new(MemoryStorage::new("seed", stream.clone())), None).expect("a sound stream");
    for shape in ["qcow2/thin", "raw/thin", "vmdk/thin", "vhd/full"] {
        put("image", &shape.replace('/', "-"), &write(image.disk.as_ref(), shape));
    }
    // The other formats keep their tables MiB apart: an empty disk, its tables moved together.
    let empty = EmptyDisk::new(content.size);
    put("image", "vhd-thin", &write(&empty, "vhd/thin"));
    put("image", "vdi-thin", &small_vdi(&write(&empty, "vdi/thin")));
    put("image", "vhdx-thin", &small_vhdx(&write(&empty, "vhdx/thin")));

    let samples = [
        include_str!("../../core/machine/tests/samples/buoycam-efi.ovf"),
        include_str!("../../core/machine/tests/samples/ledger-desktop.ovf"),
        include_str!("../../core/machine/tests/samples/tidegate-pieces.ovf"),
    ];
    for (index, sample) in samples.iter().enumerate() {
        put("ovf", &format!("{index}.ovf"), sample.as_bytes());
    }
    let files: [(&str, &[u8]); 2] = [("a.ovf", samples[0].as_bytes()), ("b.vmdk", &[7; 700])];
    for (index, kind) in [ManifestKind::Sha1, ManifestKind::Sha256, ManifestKind::Sha512].into_iter().enumerate() {
        let manifest = ova::manifest(kind, &files);
        put("manifest", &format!("{index}.mf"), manifest.as_bytes());
        let mut archive = Vec::new();
        ova::archive(&mut archive, &[files[0], ("a.mf", manifest.as_bytes()), files[1]]).expect("an archive in memory");
        put("archive", &format!("{index}.ova"), &archive);
    }
}
