//! Objects that hold disks: opened, looked at, and laid out as raw disks.

use std::{
    fs::File,
    io::{self, Read, Seek, SeekFrom, Write},
    os::unix::fs::FileExt,
    path::Path,
};

use serde_json::{Value, json};

use super::rules::{refusal, shape};
use crate::emulator::Emulator;

/// The length of the footer of a fixed VHD.
const FOOTER: u64 = 512;

/// Something that is wrong with a disk, as it is sent.
fn wrong(sentence: impl Into<String>) -> Value {
    refusal("disk", sentence, "send the disk as the launch JSON says that it is")
}

fn broken(error: impl std::fmt::Display) -> Value {
    wrong(format!("the object cannot be read: {error}"))
}

/// Lays out the disk that `image` of a launch JSON says to be in `object` as the raw file `out`.
pub(super) fn lay_out(image: &Value, object: &Path, out: &Path, progress: &mut dyn FnMut(u64)) -> Result<(), Value> {
    let size = image.get("size").and_then(Value::as_u64).unwrap_or(0);
    let mut source = File::open(object).map_err(broken)?;
    let len = source.metadata().map_err(broken)?.len();
    match shape(image).as_str() {
        "raw/thin" | "raw/full" => {
            if len != size {
                return Err(wrong(format!("it has {len} bytes where the disk has {size}")));
            }
            copy(&mut source, size, out, progress)
        }
        "raw/thin+gzip" => {
            let mut packed = flate2::read::MultiGzDecoder::new(io::BufReader::new(source));
            copy(&mut packed, size, out, progress)?;
            match packed.read(&mut [0]) {
                Ok(0) => Ok(()),
                Ok(_) => Err(wrong("there is more in it than the disk has bytes")),
                Err(error) => Err(broken(error)),
            }
        }
        "vhd/full" => {
            footer(&source, len, size)?;
            source.seek(SeekFrom::Start(0)).map_err(broken)?;
            copy(&mut source, size, out, progress)
        }
        other => {
            let driver = other.split('/').next().unwrap_or_default();
            by_emulator(driver, object, size, out)?;
            progress(size);
            Ok(())
        }
    }
}

/// The footer of a fixed VHD at the end of `len` bytes (Virtual Hard Disk Image Format Specification 1.0, "Hard Disk Footer Format").
fn footer(source: &File, len: u64, size: u64) -> Result<(), Value> {
    let at = len.checked_sub(FOOTER).ok_or_else(|| wrong("it is shorter than a footer"))?;
    let mut footer = [0; FOOTER as usize];
    source.read_exact_at(&mut footer, at).map_err(broken)?;
    let number = |at: usize| u32::from_be_bytes([footer[at], footer[at + 1], footer[at + 2], footer[at + 3]]);
    let long = |at: usize| u64::from(number(at)) << 32 | u64::from(number(at + 4));
    let summed = footer.iter().enumerate().filter(|(at, _)| !(64..68).contains(at));
    let sum: u32 = summed.map(|(_, byte)| u32::from(*byte)).sum();
    if &footer[..8] != b"conectix" || !number(64) != sum {
        return Err(wrong("it does not end in the footer of a VHD"));
    }
    match (number(60), long(48)) {
        (2, said) if said == at && at == size => Ok(()),
        (2, said) => Err(wrong(format!("its footer says {said} bytes, and {at} are there; the disk has {size}"))),
        _ => Err(refusal("thin", "it is a VHD that grows", "send the shape vhd/full")),
    }
}

fn copy(from: &mut impl Read, size: u64, out: &Path, progress: &mut dyn FnMut(u64)) -> Result<(), Value> {
    copy_with_holes(from, size, out, progress).map_err(broken)
}

/// Copies `size` bytes into the new file `out`, and leaves holes where there are zeros.
pub(super) fn copy_with_holes(
    from: &mut impl Read,
    size: u64,
    out: &Path,
    progress: &mut dyn FnMut(u64),
) -> io::Result<()> {
    let mut file = File::create_new(out)?;
    let mut piece = vec![0; 1 << 20];
    let mut at = 0;
    while at < size {
        let len = (size - at).min(piece.len() as u64) as usize;
        from.read_exact(&mut piece[..len])?;
        if piece[..len].iter().any(|byte| *byte != 0) {
            file.seek(SeekFrom::Start(at))?;
            file.write_all(&piece[..len])?;
        }
        at += len as u64;
        progress(at);
    }
    file.set_len(size)
}

/// The same by the emulator's block layer, for formats that this house does not read itself.
fn by_emulator(driver: &str, object: &Path, size: u64, out: &Path) -> Result<(), Value> {
    let copy = || -> anyhow::Result<u64> {
        let mut emulator = Emulator::start()?;
        let from = emulator.open(driver, object, true)?;
        let nodes = emulator.command("query-named-block-nodes", &json!({ "flat": true }))?;
        let node = nodes.as_array().and_then(|nodes| nodes.iter().find(|node| node["node-name"] == from.as_str()));
        let found = node.and_then(|node| node.pointer("/image/virtual-size")).and_then(Value::as_u64).unwrap_or(0);
        if found == size {
            File::create_new(out)?.set_len(size)?;
            let to = emulator.open("raw", out, false)?;
            emulator.copy(&from, &to, false)?;
        }
        emulator.quit()?;
        Ok(found)
    };
    match copy().map_err(broken)? {
        found if found == size => Ok(()),
        found => Err(wrong(format!("its disk has {found} bytes, and the launch JSON says {size}"))),
    }
}

/// Why a machine with this firmware would not start from the raw disk `disk`.
pub(super) fn cannot_boot(disk: &Path, firmware: &str) -> Option<String> {
    let mut start = vec![0; 64 << 10];
    let file = File::open(disk).ok()?;
    let len = file.read_at(&mut start, 0).unwrap_or(0);
    start.truncate(len);
    if start.get(510..512) != Some(&[0x55, 0xaa]) {
        return Some("its first sector is no boot record".into());
    }
    let entries = start[446..510].chunks(16);
    if firmware == "bios" {
        let has_code = start[..440].iter().any(|byte| *byte != 0);
        return (!has_code).then(|| "there is no code in its boot record".into());
    }
    // UEFI: an EFI system partition, in the boot record (type 0xEF) or in the table of a GPT.
    const SYSTEM: [u8; 16] =
        [0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11, 0xba, 0x4b, 0x00, 0xa0, 0xc9, 0x3e, 0xc9, 0x3b];
    let in_record = entries.clone().any(|entry| entry[4] == 0xef);
    let has_gpt = start.get(512..520) == Some(b"EFI PART");
    let in_table = has_gpt && start[1024..].chunks(128).take(128).any(|entry| entry.starts_with(&SYSTEM));
    (!in_record && !in_table).then(|| "it has no EFI system partition".into())
}

/// Where the raw disk `disk` has data: start and length of each run.
pub(super) fn map(disk: &File) -> io::Result<Vec<(u64, u64)>> {
    use rustix::fs::{SeekFrom, seek};
    let len = disk.metadata()?.len();
    let (mut runs, mut at) = (Vec::new(), 0);
    while at < len {
        let start = match seek(disk, SeekFrom::Data(at)) {
            Ok(start) => start,
            Err(rustix::io::Errno::NXIO) => break,
            Err(error) => return Err(error.into()),
        };
        let end = seek(disk, SeekFrom::Hole(start))?;
        runs.push((start, end - start));
        at = end;
    }
    Ok(runs)
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    const SIZE: u64 = 3 << 20;

    /// The footer of a VHD of kind `kind` (2 is fixed, 3 grows) for `size` bytes.
    fn vhd(kind: u32, size: u64) -> Vec<u8> {
        let mut footer = vec![0; 512];
        footer[..8].copy_from_slice(b"conectix");
        footer[48..56].copy_from_slice(&size.to_be_bytes());
        footer[60..64].copy_from_slice(&kind.to_be_bytes());
        let sum: u32 = footer.iter().map(|byte| u32::from(*byte)).sum();
        footer[64..68].copy_from_slice(&(!sum).to_be_bytes());
        footer
    }

    fn image(shape: &str, compression: &str) -> Value {
        let (format, layout) = shape.split_once('/').unwrap();
        json!({ "format": format, "layout": layout, "compression": compression, "size": SIZE })
    }

    /// What laying out `bytes` comes to: the disk, or the code of the refusal.
    fn laid_out(image: &Value, bytes: &[u8]) -> Result<Vec<u8>, String> {
        let folder = tempfile::tempdir().unwrap();
        let (object, out) = (folder.path().join("object"), folder.path().join("out"));
        fs::write(&object, bytes).unwrap();
        let made = lay_out(image, &object, &out, &mut |_| ());
        made.map(|()| fs::read(&out).unwrap()).map_err(|refusal| refusal["code"].as_str().unwrap().into())
    }

    #[test]
    fn what_is_no_disk_of_its_shape_is_refused() {
        let mut disk = vec![0; SIZE as usize];
        disk[5000] = 7;
        let packed = |bytes: &[u8]| {
            let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
            encoder.write_all(bytes).unwrap();
            encoder.finish().unwrap()
        };
        let with = |footer: Vec<u8>| [disk.clone(), footer].concat();
        let (raw, gz, fixed) = (image("raw/thin", ""), image("raw/thin", "gzip"), image("vhd/full", ""));
        for (image, bytes) in [(&raw, disk.clone()), (&gz, packed(&disk)), (&fixed, with(vhd(2, SIZE)))] {
            assert!(laid_out(image, &bytes).unwrap() == disk, "{image}");
        }
        let mut bent = vhd(2, SIZE);
        bent[100] ^= 1;
        for (image, bytes, code) in [
            (&raw, disk[1..].to_vec(), "disk"),
            (&gz, packed(&disk[1..]), "disk"),
            (&gz, packed(&with(vec![1])), "disk"),
            (&gz, disk.clone(), "disk"),
            (&fixed, disk.clone(), "disk"),
            (&fixed, with(bent), "disk"),
            (&fixed, with(vhd(2, SIZE - 512)), "disk"),
            (&fixed, with(vhd(3, SIZE)), "thin"),
            (&fixed, [&[0; 512][..], &disk, &vhd(2, SIZE)].concat(), "disk"),
        ] {
            assert_eq!(laid_out(image, &bytes).unwrap_err(), code, "{image}: {} bytes", bytes.len());
        }
    }

    #[test]
    fn what_no_firmware_would_start_is_told() {
        let folder = tempfile::tempdir().unwrap();
        let why = |change: &dyn Fn(&mut Vec<u8>), firmware: &str| {
            let mut disk = vec![0; SIZE as usize];
            change(&mut disk);
            let file = folder.path().join("disk");
            fs::write(&file, disk).unwrap();
            cannot_boot(&file, firmware)
        };
        let record = |disk: &mut Vec<u8>| disk[510..512].copy_from_slice(&[0x55, 0xaa]);
        let code = |disk: &mut Vec<u8>| {
            record(disk);
            disk[0] = 0xeb;
        };
        let gpt = |disk: &mut Vec<u8>| {
            record(disk);
            disk[512..520].copy_from_slice(b"EFI PART");
            disk[1152..1168].copy_from_slice(&[
                0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11, 0xba, 0x4b, 0, 0xa0, 0xc9, 0x3e, 0xc9, 0x3b,
            ]);
        };
        assert!(why(&|_| (), "bios").unwrap().contains("no boot record"));
        assert!(why(&record, "bios").unwrap().contains("no code"));
        assert_eq!(why(&code, "bios"), None);
        assert!(why(&code, "uefi").unwrap().contains("no EFI system partition"));
        assert_eq!(why(&gpt, "uefi"), None);
    }
}
