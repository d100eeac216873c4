//! Every writer and reader on the same 64 MiB: a third holes, a third that compresses, a third that does not.
//! `cargo bench --manifest-path benches/Cargo.toml`; `tools/bench` times the whole program against plain tools.

#![expect(clippy::unwrap_used, reason = "a benchmark that cannot go on has failed")]

use std::{fs::File, path::Path, sync::Arc, time::Duration};

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use reformis_disk::{
    Disk, Shape,
    budget::Budget,
    container,
    copy::{output::Output, pipeline, watch::Watch},
    digest::BlockDigest,
    format::{self, NewImage, Squeeze, raw::RawDisk},
    source::MemoryStorage,
};
use reformis_standin::content::Content;

const SIZE: u64 = 64 << 20;

fn watch() -> Watch<'static> {
    Watch { cancel: &|| false, progress: &|_| {}, workers: None }
}

fn disk() -> RawDisk {
    let third = SIZE / 3;
    let content = Content::empty(SIZE).with(0, third, 2).with(third, third, 1);
    let mut bytes = vec![0; SIZE as usize];
    content.read_at(0, &mut bytes);
    RawDisk::new(Arc::new(MemoryStorage::new("disk", bytes)))
}

fn write(disk: &dyn Disk, image: &NewImage, path: &Path) {
    let folder = path.parent().unwrap().to_path_buf();
    let pieces = Box::new(move |name: &str| Ok(File::create(folder.join(name)).unwrap()));
    let output = Output::with_pieces(File::create(path).unwrap(), path.to_string_lossy(), pieces);
    let mut writer = format::create_in(output, image).unwrap();
    pipeline::copy(disk, writer.as_mut(), &watch()).unwrap();
}

fn shapes(criterion: &mut Criterion) {
    let folder = tempfile::tempdir().unwrap();
    let source = disk();
    let plain = |shape| (format!("{shape}"), NewImage::new(shape, SIZE));
    let mut images: Vec<(String, NewImage)> = Shape::all().into_iter().map(plain).collect();
    for (name, squeeze) in [("qcow2 deflate", Squeeze::Deflate), ("qcow2 zstd", Squeeze::Zstd)] {
        let image = NewImage { squeeze: Some(squeeze), ..NewImage::new("qcow2".parse().unwrap(), SIZE) };
        images.push((name.into(), image));
    }
    let mut group = criterion.benchmark_group("write");
    group.throughput(Throughput::Bytes(SIZE)).sample_size(10);
    group.warm_up_time(Duration::from_millis(200)).measurement_time(Duration::from_secs(1));
    for (name, image) in &images {
        let path = folder.path().join("out.vmdk");
        group.bench_function(name, |bencher| bencher.iter(|| write(&source, image, &path)));
    }
    group.finish();
    let mut group = criterion.benchmark_group("read");
    group.throughput(Throughput::Bytes(SIZE)).sample_size(10);
    group.warm_up_time(Duration::from_millis(200)).measurement_time(Duration::from_secs(1));
    for (name, image) in &images {
        let path = folder.path().join("in.vmdk");
        write(&source, image, &path);
        let opened = format::open(container::open(&path, &Budget::whole()).unwrap(), Some(image.shape.format)).unwrap();
        group.bench_function(name, |bencher| {
            bencher.iter(|| pipeline::scan(opened.disk.as_ref(), &watch()).unwrap());
        });
    }
    group.finish();
}

/// What more workers than cores give, or fewer.
fn workers(criterion: &mut Criterion) {
    let folder = tempfile::tempdir().unwrap();
    let source = disk();
    let mut group = criterion.benchmark_group("workers");
    group.throughput(Throughput::Bytes(SIZE)).sample_size(10);
    group.warm_up_time(Duration::from_millis(200)).measurement_time(Duration::from_secs(2));
    for shape in ["qcow2/thin", "vmdk/stream"] {
        for workers in [1, 2, 3, 4, 8] {
            let path = folder.path().join("out");
            group.bench_function(format!("{shape} with {workers}"), |bencher| {
                bencher.iter(|| {
                    let output = Output::file(File::create(&path).unwrap(), "out");
                    let image = NewImage::new(shape.parse().unwrap(), SIZE);
                    let mut writer = format::create_in(output, &image).unwrap();
                    let watch = Watch { workers: Some(workers), ..watch() };
                    pipeline::copy(&source, writer.as_mut(), &watch).unwrap();
                });
            });
        }
    }
    group.finish();
}

fn digests(criterion: &mut Criterion) {
    let (zeros, data) = (vec![0; 1 << 20], vec![7; 1 << 20]);
    let mut group = criterion.benchmark_group("digest of a block");
    group.throughput(Throughput::Bytes(1 << 20));
    group.bench_function("zeros", |bencher| bencher.iter(|| BlockDigest::of(&zeros)));
    group.bench_function("data", |bencher| bencher.iter(|| BlockDigest::of(&data)));
    group.finish();
}

criterion_group!(benches, shapes, workers, digests);
criterion_main!(benches);
