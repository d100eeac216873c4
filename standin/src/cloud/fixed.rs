//! Snapshots as fixed VHDs, as some clouds give them: the disk, and a footer behind it ("Virtual Hard Disk Image Format Specification",
//! version 1.0, "Hard Disk Footer Format").

use std::{
    fs::OpenOptions,
    io,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
};

use serde_json::Value;

use crate::host::machines::Machine;

/// What a raw disk's file is called as a fixed VHD.
fn named(file: &Path) -> PathBuf {
    file.with_extension("vhd")
}

/// The footer of a disk of `size` bytes.
fn footer(size: u64) -> [u8; 512] {
    let mut footer = [0; 512];
    let mut put = |at: usize, bytes: &[u8]| footer[at..at + bytes.len()].copy_from_slice(bytes);
    put(0, b"conectix");
    put(8, &2u32.to_be_bytes());
    put(12, &0x1_0000u32.to_be_bytes());
    put(16, &[0xff; 8]);
    put(28, b"tide");
    put(36, b"Wi2k");
    put(40, &size.to_be_bytes());
    put(48, &size.to_be_bytes());
    // The largest geometry: who reads it takes the size above.
    put(56, &[0xff, 0xff, 16, 255]);
    put(60, &2u32.to_be_bytes());
    put(68, &[0x5a; 16]);
    let sum = footer.iter().fold(0u32, |sum, byte| sum.wrapping_add((*byte).into()));
    footer[64..68].copy_from_slice(&(!sum).to_be_bytes());
    footer
}

/// Makes the raw disks of `machine`, which are copies, fixed VHDs.
pub(super) fn make(machine: &mut Machine) -> io::Result<()> {
    for file in machine.files.iter_mut().filter(|file| file.extension().is_some_and(|ending| ending == "raw")) {
        let disk = OpenOptions::new().write(true).open(&*file)?;
        let size = disk.metadata()?.len();
        disk.write_all_at(&footer(size), size)?;
        let vhd = named(file);
        std::fs::rename(&*file, &vhd)?;
        *file = vhd;
    }
    Ok(())
}

/// What is told of a machine whose exports are fixed VHDs.
pub(super) fn told(machine: &Machine) -> Value {
    let mut whole = machine.whole();
    let rename = |name: &mut Value| {
        if let Some(text) = name.as_str() {
            *name = named(Path::new(text)).to_string_lossy().into_owned().into();
        }
    };
    let is_raw = |name: &Value| name.as_str().is_some_and(|text| text.ends_with(".raw"));
    let files = whole["files"].as_array_mut().into_iter().flatten();
    files.filter(|name| is_raw(name)).for_each(rename);
    let text = whole["machine-file"]["text"].as_str().unwrap_or_default();
    if let Ok(mut launch) = serde_json::from_str::<Value>(text) {
        for disk in launch["machine"]["disks"].as_array_mut().into_iter().flatten() {
            disk["format"] = "vhd".into();
            disk["files"].as_array_mut().into_iter().flatten().for_each(rename);
        }
        whole["machine-file"]["text"] = launch.to_string().into();
    }
    whole
}
