//! One budget for all that is kept of a stranger's file.

use std::{io::Write, path::Path, sync::Arc};

use reformis_disk::{
    Error,
    budget::Budget,
    container::{self, Archive},
    copy::pipeline,
    format,
    source::MemoryStorage,
};
use reformis_standin::content::Content;

use crate::common::{ContentDisk, every_image, watch, write_new};

/// Opens the image at `path` and reads all of it.
fn read_all(path: &Path, budget: &Arc<Budget>) -> Result<(), Error> {
    let image = format::open(container::open(path, budget)?, None)?;
    pipeline::scan(image.disk.as_ref(), &watch()).map(drop)
}

#[test]
fn every_shape_is_read_within_its_budget_and_refused_below_it() {
    let folder = tempfile::tempdir().unwrap();
    // Far apart, so that each piece needs tables of its own.
    let size = 3 << 40;
    let content =
        (0..40).fold(Content::empty(size), |content, number| content.with(number * (size / 40), 5000, number));
    let sparse = |image: &format::NewImage| image.shape.layout.name() == "thin" && image.shape.format.name() != "vhd";
    for (number, image) in every_image(size).into_iter().filter(sparse).enumerate() {
        let path = folder.path().join(format!("{number}.{}", image.shape.format.name()));
        // What a small cluster cannot address is refused when it is written.
        let Ok(_) = write_new(&ContentDisk(content.clone()), &image, &path) else { continue };
        let budget = Budget::whole();
        let storage = container::open(&path, &budget).unwrap();
        let opened = format::open(storage, None).unwrap();
        pipeline::scan(opened.disk.as_ref(), &watch()).unwrap();
        let used = budget.used();
        drop(opened);
        assert_eq!(budget.used(), 0, "{}: all of it is given back", image.shape);
        read_all(&path, &Budget::new(used * 8 + (16 << 10))).unwrap();
        // Enough to look at the start, which is all that a raw disk needs, and not for tables.
        let enough = if image.shape.format.name() == "raw" { 4 << 10 } else { 12 << 10 };
        let error = read_all(&path, &Budget::new(enough)).expect_err("too little");
        assert!(matches!(error, Error::Memory { .. }), "{}: {error}", image.shape);
    }
}

#[test]
fn a_chain_reads_with_little_memory_what_one_disk_could_keep_more_of() {
    let folder = tempfile::tempdir().unwrap();
    let size = 64 << 30;
    let content =
        (0..128).fold(Content::empty(size), |content, number| content.with(number * (size / 128), 9000, number));
    let path = folder.path().join("a.qcow2");
    write_new(&ContentDisk(content), &format::NewImage::new("qcow2/thin".parse().unwrap(), size), &path).unwrap();
    let whole = Budget::whole();
    let image = format::open(container::open(&path, &whole).unwrap(), None).unwrap();
    let digest = pipeline::scan(image.disk.as_ref(), &watch()).unwrap();
    // 64 tables of 64 KiB are kept where there is room, and one where there is not.
    assert!(whole.used() > 4 << 20, "{}", whole.used());
    let little = Budget::new(512 << 10);
    let image = format::open(container::open(&path, &little).unwrap(), None).unwrap();
    assert_eq!(pipeline::scan(image.disk.as_ref(), &watch()).unwrap(), digest);
}

#[test]
fn a_directory_of_many_members_is_counted() {
    let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for number in 0..5000 {
        writer.start_file(format!("{number}"), zip::write::SimpleFileOptions::default()).unwrap();
    }
    let zip = writer.finish().unwrap().into_inner();
    let mut builder = tar::Builder::new(Vec::new());
    for number in 0..5000 {
        let mut header = tar::Header::new_gnu();
        header.set_size(0);
        builder.append_data(&mut header, format!("{number}"), std::io::empty()).unwrap();
    }
    let tar = builder.into_inner().unwrap();
    for bytes in [zip, tar] {
        let open = |most: u64| {
            let budget = Budget::new(most);
            let storage = MemoryStorage::counted("x.tar", bytes.clone(), budget.hold());
            Archive::open(Arc::new(storage)).map(|archive| (archive.members().len(), budget.used()))
        };
        let (count, used) = open(64 << 20).unwrap();
        assert_eq!(count, 5000);
        assert!((5000 * 256..5000 * 512).contains(&used), "{used}");
        assert!(open(1 << 20).is_err());
    }
}

#[test]
fn a_member_that_is_not_what_its_directory_says_is_an_error() {
    let packed = |method| {
        let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
        let options = zip::write::SimpleFileOptions::default().compression_method(method);
        writer.start_file("disk.raw", options).unwrap();
        writer.write_all(&[7; 100_000]).unwrap();
        writer.finish().unwrap().into_inner()
    };
    let read = |bytes: Vec<u8>| {
        let storage = Arc::new(MemoryStorage::new("x.zip", bytes));
        let container::Source::Stream(stream) = container::locate_in(storage, Some("disk.raw"))? else {
            panic!("a compressed member is a stream");
        };
        let mut unpacked = Vec::new();
        stream.visit(&mut std::io::empty(), &|_| {}, true, &mut |bytes, len| {
            assert_eq!(len, Some(unpacked.len() as u64 + len.unwrap_or(0)));
            container::packed::fill(bytes, &mut vec![0; 200_000], "disk.raw", 0).map(|len| unpacked.resize(len, 0))
        })?;
        Ok::<_, Error>(unpacked.len())
    };
    use zip::CompressionMethod as Method;
    for method in [Method::Deflated, Method::Bzip2, Method::Zstd] {
        let whole = packed(method);
        assert_eq!(read(whole.clone()).unwrap(), 100_000, "{method}");
        let entry = whole.windows(4).position(|four| four == b"PK\x01\x02").unwrap();
        // The checksum, and the length of what is inside: one less, one more.
        for (at, value) in [(16, 1), (24, 99_999u32), (24, 100_001)] {
            let mut wrong = whole.clone();
            wrong[entry + at..entry + at + 4].copy_from_slice(&value.to_le_bytes());
            let error = read(wrong).expect_err("the directory lies").to_string();
            assert!(error.contains("checksum") || error.contains("directory says"), "{method}: {error}");
        }
    }
}
