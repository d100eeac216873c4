//! Writes real inputs into `corpus/`, from which the fuzzers start.

use std::{fs, path::Path, sync::Arc};

use reformis_disk::{formats, pipeline, source::MemoryStorage};
use reformis_standin::{
    content::Content,
    export,
    ova::{self, ManifestKind},
};

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
    let folder = tempfile::tempdir().expect("a temporary folder");
    for shape in ["qcow2/thin", "raw/thin"] {
        let path = folder.path().join("seed");
        let file = fs::File::create(&path).expect("a file");
        let shape = shape.parse().expect("a shape");
        let mut writer = formats::create(file, "seed".into(), shape, content.size).expect("a writer");
        let watch = pipeline::Watch { cancel: &|| false, progress: &|_| {}, workers: Some(1) };
        pipeline::copy(image.disk.as_ref(), writer.as_mut(), &watch).expect("a copy");
        put("image", &shape.format.to_string(), &fs::read(path).expect("the copy"));
    }
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
