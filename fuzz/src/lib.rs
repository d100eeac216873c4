//! What the fuzz targets share: an image in memory with a file beside it, and a walk through all that a reader offers.

pub mod changes;

use std::sync::Arc;

use reformis_disk::{
    Disk, Extent, ExtentKind, Format, Result, Storage,
    budget::Budget,
    format,
    source::{Identity, Links, MemoryStorage},
};
use reformis_machine::{Earlier, Keep, LandedDisk, MachineFile, domain, launch, ovf, script, vbox, vmx};

/// A file whose every neighbour holds the same bytes.
struct Pair {
    name: String,
    bytes: MemoryStorage,
    beside: Arc<[u8]>,
}

impl Pair {
    fn new(name: &str, bytes: Arc<[u8]>, beside: Arc<[u8]>) -> Self {
        Self { name: name.into(), bytes: MemoryStorage::new(name, bytes), beside }
    }
}

impl Storage for Pair {
    fn name(&self) -> &str {
        &self.name
    }

    fn len(&self) -> u64 {
        self.bytes.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        self.bytes.read_at(offset, buf)
    }

    fn extent_at(&self, offset: u64) -> Result<Extent> {
        self.bytes.extent_at(offset)
    }

    fn check_unchanged(&self) -> Result<()> {
        Ok(())
    }

    fn identity(&self) -> Option<&Identity> {
        None
    }

    fn budget(&self) -> &Arc<Budget> {
        self.bytes.budget()
    }

    fn sibling(&self, name: &str, _: Links) -> Result<Arc<dyn Storage>> {
        Ok(Arc::new(Self::new(name, self.beside.clone(), self.beside.clone())))
    }

    fn neighbours(&self) -> Result<Vec<String>> {
        Ok(vec!["beside".into()])
    }
}

/// Two files in one input: the last four bytes say where the second begins; beyond the end, there is no second.
pub fn split(input: &[u8]) -> (&[u8], &[u8]) {
    let Some((rest, at)) = input.split_last_chunk::<4>() else { return (input, &[]) };
    let at = (u32::from_le_bytes(*at) as usize).min(rest.len());
    rest.split_at(at)
}

/// The reverse of [`split`].
pub fn join(first: &[u8], second: &[u8]) -> Vec<u8> {
    [first, second, &(first.len() as u32).to_le_bytes()].concat()
}

/// Opens `first`, with `second` beside it, as `format`, and reads here and there: no panic, extents that add up, zeros
/// where zeros are said to be.
pub fn explore(first: &[u8], second: &[u8], format: Option<Format>, snapshot: Option<&str>) {
    let storage = Arc::new(Pair::new("fuzz", first.into(), second.into()));
    let opener = format::opener(reformis_disk::source::Links::default()).at_snapshot(snapshot.map(Into::into));
    let Ok(image) = opener.open(storage, format) else { return };
    walk(image.disk.as_ref());
}

fn walk(disk: &dyn Disk) {
    let mut buf = vec![0xaa; 70_000];
    let mut at = 0;
    for _ in 0..200 {
        if at >= disk.size() {
            break;
        }
        let Ok(extent) = disk.extent_at(at) else { break };
        assert!(extent.start == at && extent.len > 0 && extent.end() <= disk.size());
        let len = extent.len.min(buf.len() as u64) as usize;
        if disk.read_at(at, &mut buf[..len]).is_ok() && extent.kind == ExtentKind::Zero {
            assert!(buf[..len].iter().all(|&byte| byte == 0));
        }
        at = extent.end();
    }
    let tail = disk.size().min(1000);
    let _ = disk.read_at(disk.size() - tail, &mut buf[..tail as usize]);
    assert!(disk.read_at(disk.size(), &mut buf[..1]).is_err());
}

/// Sets the four bytes at `at` of `bytes[range]` to the CRC-32C of the range with them as zeros.
fn set_crc(bytes: &mut [u8], start: usize, len: usize) {
    let Some(range) = bytes.get_mut(start..start.saturating_add(len)) else { return };
    range[4..8].fill(0);
    let sum = crc32c::crc32c(range);
    range[4..8].copy_from_slice(&sum.to_le_bytes());
}

/// Makes the checksums of a VHDX right, so that what they cover is reached.
pub fn fix_vhdx(bytes: &mut [u8]) {
    let number = |bytes: &[u8], at: usize, len: usize| {
        let field = bytes.get(at..at + len).unwrap_or_default();
        field.iter().rev().fold(0usize, |sum, &byte| (sum << 8) | usize::from(byte))
    };
    for header in [64 << 10, 128 << 10] {
        let (len, start) = (number(bytes, header + 68, 4), number(bytes, header + 72, 8));
        set_crc(bytes, header, 4096);
        let end = start.saturating_add(len).min(bytes.len());
        for entry in (start..end).step_by(4096).take(16) {
            if bytes.get(entry..entry + 4) == Some(b"loge") {
                let len = number(bytes, entry + 8, 4);
                if (64..1 << 20).contains(&len) {
                    set_crc(bytes, entry, len);
                }
            }
        }
    }
    for table in [192 << 10, 256 << 10] {
        set_crc(bytes, table, 64 << 10);
    }
}

/// Makes the checksums of a VHD right.
pub fn fix_vhd(bytes: &mut [u8]) {
    let mut fix = |start: usize, len: usize, field: usize| {
        let Some(range) = bytes.get_mut(start..start.saturating_add(len)) else { return };
        range[field..field + 4].fill(0);
        let sum = range.iter().fold(0u32, |sum, &byte| sum.wrapping_add(byte.into()));
        range[field..field + 4].copy_from_slice(&(!sum).to_be_bytes());
    };
    fix(0, 512, 64);
    fix(512, 1024, 36);
    let last = bytes.len().saturating_sub(512);
    if last >= 2048 {
        let fix_last = |range: &mut [u8]| {
            range[64..68].fill(0);
            let sum = range.iter().fold(0u32, |sum, &byte| sum.wrapping_add(byte.into()));
            range[64..68].copy_from_slice(&(!sum).to_be_bytes());
        };
        fix_last(&mut bytes[last..]);
    }
}

/// Reads a machine file; what is read is written in every kind, which must be read again, and in its own kind over what
/// it was.
pub fn machine_file(kind: MachineFile, bytes: &[u8]) {
    MachineFile::detect(bytes);
    let Ok(document) = reformis_machine::read(kind, bytes, "fuzz") else { return };
    let text = String::from_utf8_lossy(bytes);
    for mut machine in document.machines.into_iter().take(4) {
        // As a plan has it.
        machine.memory = machine.memory.next_multiple_of(1 << 20);
        for disk in &mut machine.disks {
            disk.files = vec!["disk.img".into()];
        }
        machine.disks.truncate(64);
        let landed = vec![LandedDisk::default(); machine.disks.len()];
        let check = |kind, text: String| {
            reformis_machine::read(kind, text.as_bytes(), "again").expect("what is written is sound");
        };
        for keep in [None, Some(Keep::Harmless), Some(Keep::Everything)] {
            let earlier = keep.map(|keep| Earlier { text: &text, keep });
            let of = |own| earlier.filter(|_| kind == own);
            check(MachineFile::DomainXml, domain::write(&machine, of(MachineFile::DomainXml)).expect("memory"));
            check(MachineFile::Ovf, ovf::write(&machine, &landed, "x", of(MachineFile::Ovf)).expect("memory"));
            check(MachineFile::Vmx, vmx::write(&machine, of(MachineFile::Vmx)));
            check(MachineFile::Vbox, vbox::write(&machine, &landed, of(MachineFile::Vbox)).expect("memory"));
            check(MachineFile::LaunchJson, launch::write(&machine, &landed, "x", of(MachineFile::LaunchJson)));
        }
        script::write(&machine);
    }
}
