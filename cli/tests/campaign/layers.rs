//! What lies between a disk and a volume: laid around it, and taken off again to see what became of it. This kernel has no device mapper, so
//! that the stand-in's own layers do it.

use std::{
    fs::{self, File, Permissions},
    io::{Read, Write},
    os::unix::fs::{FileExt, PermissionsExt},
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

use reformis_standin::{lvm, raid};
use rustix::fs::{SeekFrom, seek};

use crate::case::Layer;

const MIB: u64 = 1 << 20;
const CHUNK: u64 = 64 << 10;

/// A disk that holds a volume.
pub(crate) struct Disk {
    pub(crate) path: PathBuf,
    /// What the program calls the volume.
    pub(crate) volume: String,
    /// Options that open it.
    pub(crate) more: Vec<String>,
    layer: Layer,
    size: u64,
}

/// Copies what is data in `len` bytes.
fn copy(from: &File, start: u64, to: &File, at: u64, len: u64) {
    let mut done = 0;
    let mut piece = vec![0; 1 << 20];
    while done < len {
        let Ok(data) = seek(from, SeekFrom::Data(start + done)) else { return };
        let hole = seek(from, SeekFrom::Hole(data)).unwrap();
        done = data - start;
        while done < len.min(hole - start) {
            let now = (len.min(hole - start) - done).min(piece.len() as u64) as usize;
            from.read_exact_at(&mut piece[..now], start + done).unwrap();
            to.write_all_at(&piece[..now], at + done).unwrap();
            done += now as u64;
        }
    }
}

/// A copy of a file that keeps its holes.
pub(crate) fn copy_file(from: &Path, to: &Path) {
    let (source, target) = (File::open(from).unwrap(), File::create(to).unwrap());
    let len = source.metadata().unwrap().len();
    target.set_len(len).unwrap();
    copy(&source, 0, &target, 0, len);
}

fn partitioned(path: &Path, label: &str, sizes: &[u64]) -> File {
    let file = File::options().create(true).truncate(true).read(true).write(true).open(path).unwrap();
    file.set_len((2 + sizes.iter().sum::<u64>() / MIB) * MIB).unwrap();
    let lines: Vec<String> = sizes.iter().map(|size| format!("size={}", size / 512)).collect();
    let table = format!("label: {label}\n{}\n", lines.join("\n"));
    let mut child = Command::new("sfdisk").arg("-q").arg(path).stdin(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(table.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
    file
}

fn tool() -> Command {
    Command::new(Path::new(env!("CARGO_MANIFEST_DIR")).join("../tools/lay-locked"))
}

fn ran(command: &mut Command) {
    let output = command.output().unwrap();
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
}

/// The runs of a linear volume: where in it, where on the disk, how long. The second half lies before the first.
fn runs(size: u64) -> [(u64, u64, u64); 2] {
    let first = (size / lvm::EXTENT).div_ceil(2) * lvm::EXTENT;
    [(0, MIB + size - first, first), (first, MIB, size - first)]
}

impl Disk {
    /// Lays `layer` around the volume in `image`.
    pub(crate) fn around(image: &Path, layer: Layer, folder: &Path) -> Self {
        let volume = File::open(image).unwrap();
        let size = volume.metadata().unwrap().len();
        // Stripes take turns, and an encrypted byte is slow here.
        let layer = match layer {
            Layer::Striped if size / lvm::EXTENT % 2 == 1 => Layer::Linear,
            Layer::Locked if size > 64 * MIB => Layer::Gpt,
            layer => layer,
        };
        let path = folder.join("disk.raw");
        let mut more = Vec::new();
        let name = match layer {
            Layer::Whole => {
                copy_file(image, &path);
                "disk 1".into()
            }
            Layer::Gpt | Layer::Mbr => {
                let disk = partitioned(&path, if layer == Layer::Gpt { "gpt" } else { "dos" }, &[size]);
                copy(&volume, 0, &disk, MIB, size);
                "disk 1 partition 1".to_string()
            }
            Layer::Linear => {
                let disk = File::create_new(&path).unwrap();
                disk.set_len(size + 2 * lvm::EXTENT).unwrap();
                let physical = [lvm::Physical { file: &disk, start: 0, size: size + 2 * lvm::EXTENT }];
                let segments = runs(size).map(|(_, at, len)| lvm::Segment {
                    legs: vec![(0, (at - MIB) / lvm::EXTENT)],
                    extents: len / lvm::EXTENT,
                });
                lvm::lay("tide", &physical, &[lvm::Volume { name: "root", segments: segments.into() }]).unwrap();
                for (start, at, len) in runs(size) {
                    copy(&volume, start, &disk, at, len);
                }
                "tide/root".into()
            }
            Layer::Striped => {
                let each = size / 2 + lvm::EXTENT;
                let disk = partitioned(&path, "gpt", &[each, each]);
                let physical = [MIB, MIB + each].map(|start| lvm::Physical { file: &disk, start, size: each });
                let segment = lvm::Segment { legs: vec![(0, 0), (1, 0)], extents: size / lvm::EXTENT };
                lvm::lay("tide", &physical, &[lvm::Volume { name: "root", segments: vec![segment] }]).unwrap();
                for number in 0..size / CHUNK {
                    let at = MIB + number % 2 * each + MIB + number / 2 * CHUNK;
                    copy(&volume, number * CHUNK, &disk, at, CHUNK);
                }
                "tide/root".into()
            }
            Layer::Mirror => {
                let each = size + MIB;
                let disk = partitioned(&path, "gpt", &[each, each]);
                for number in 0..2 {
                    let start = MIB + number * each;
                    let front = raid::Array::mirror("root").front(each as usize, number as usize, 2);
                    disk.write_all_at(&front, start).unwrap();
                    copy(&volume, 0, &disk, start + MIB, size);
                }
                "array root".into()
            }
            Layer::Locked => {
                drop(partitioned(&path, "gpt", &[size + 16 * MIB]));
                let key = folder.join("key");
                fs::write(&key, b"high tide").unwrap();
                fs::set_permissions(&key, Permissions::from_mode(0o600)).unwrap();
                let words = [MIB.to_string(), (size + 16 * MIB).to_string()];
                ran(tool().arg(&path).args(words).arg(&key).arg(image));
                more = vec!["--unlock".into(), format!("all={}", key.display())];
                "opened disk 1 partition 1".into()
            }
        };
        Self { path, volume: name, more, layer, size }
    }

    /// Takes the volume out of a disk like this one.
    pub(crate) fn volume_of(&self, path: &Path, image: &Path) {
        let (disk, out) = (File::open(path).unwrap(), File::create(image).unwrap());
        out.set_len(self.size).unwrap();
        match self.layer {
            Layer::Whole => copy(&disk, 0, &out, 0, self.size),
            Layer::Gpt | Layer::Mbr => copy(&disk, MIB, &out, 0, self.size),
            Layer::Linear => runs(self.size).into_iter().for_each(|(at, from, len)| copy(&disk, from, &out, at, len)),
            Layer::Striped => {
                let each = self.size / 2 + lvm::EXTENT;
                for number in 0..self.size / CHUNK {
                    let at = MIB + number % 2 * each + MIB + number / 2 * CHUNK;
                    copy(&disk, at, &out, number * CHUNK, CHUNK);
                }
            }
            Layer::Mirror => {
                let each = self.size + MIB;
                copy(&disk, 2 * MIB, &out, 0, self.size);
                assert!(same(&disk, 2 * MIB, 2 * MIB + each, self.size), "the halves of the mirror differ");
            }
            Layer::Locked => {
                let words = [MIB.to_string(), (self.size + 16 * MIB).to_string()];
                ran(tool().arg("--take").arg(path).args(words).arg(path.with_file_name("key")).arg(image));
            }
        }
    }
}

/// Whether two places of a file hold the same.
fn same(file: &File, one: u64, other: u64, len: u64) -> bool {
    let reader = |start: u64| {
        let mut file = File::open(format!("/proc/self/fd/{}", std::os::fd::AsRawFd::as_raw_fd(file))).unwrap();
        std::io::Seek::seek(&mut file, std::io::SeekFrom::Start(start)).unwrap();
        let mut hasher = blake3::Hasher::new();
        hasher.update_reader(file.take(len)).unwrap();
        hasher.finalize()
    };
    reader(one) == reader(other)
}
