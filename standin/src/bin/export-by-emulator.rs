//! `export-by-emulator RAW OVA`: the machine emulator's own block layer puts the raw disk into a VMDK made for
//! transport, and an OVF package is packed around it.

use std::{fs, path::Path};

use anyhow::{Context, Result};
use reformis_standin::{
    emulator::Emulator,
    ova::{self, ManifestKind},
};
use serde_json::json;

const DESCRIPTOR: &str = include_str!("../../../demo/tree/tidelog.ovf");

fn main() -> Result<()> {
    let mut args = std::env::args().skip(1);
    let raw = args.next().context("no raw disk was named")?;
    let out = args.next().context("no archive was named")?;
    let size = fs::metadata(&raw)?.len();
    let image = tempfile::NamedTempFile::new_in(Path::new(&out).parent().context("no folder")?)?;
    let mut emulator = Emulator::start()?;
    emulator.create("vmdk", image.path(), size, &json!({ "subformat": "streamOptimized" }))?;
    let from = emulator.open("raw", Path::new(&raw), true)?;
    let to = emulator.open("vmdk", image.path(), false)?;
    emulator.copy(&from, &to, true)?;
    emulator.quit()?;
    let disk = fs::read(image.path())?;
    // The demo's machine with this disk alone.
    let second = |line: &&str| line.contains("file2") || line.contains("fileRef=\"file2\"");
    let mut descriptor: String = DESCRIPTOR.lines().filter(|line| !second(line)).flat_map(|l| [l, "\n"]).collect();
    if let (Some(start), Some(end)) =
        (descriptor.find("<ovf:Item>\n        <rasd:AddressOnParent>1<"), descriptor.find("02:5a:17"))
    {
        let end = descriptor[..end].rfind("<ovf:Item>").unwrap_or(end);
        descriptor.replace_range(start..end, "");
    }
    let descriptor = descriptor
        .replace("@SIZE1@", &disk.len().to_string())
        .replace("\"3\" ovf:capacityAllocationUnits=\"byte * 2^30\"", &format!("\"{size}\""));
    let files = [("tidelog.ovf", descriptor.as_bytes()), ("tidelog-disk1.vmdk", &disk[..])];
    let manifest = ova::manifest(ManifestKind::Sha256, &files);
    ova::archive(fs::File::create(out)?, &[files[0], ("tidelog.mf", manifest.as_bytes()), files[1]])?;
    Ok(())
}
