//! The descriptor: a text of `key = "value"` lines and lines that name extents.

use std::sync::Arc;

use uuid::Uuid;

use crate::{
    budget::{Budget, Hold},
    error::{Error, Result},
};

/// The `parentCID` of a disk that is no delta.
pub(super) const NO_PARENT: u32 = u32::MAX;

/// Memory for a line beside its text, in a list that grows by doubling.
const LINE: u64 = 256;

/// What a descriptor says (technical note, section "Descriptor File").
#[derive(Debug, Default)]
pub struct Descriptor {
    /// `createType`, such as "streamOptimized".
    pub create_type: String,
    /// `CID`, which changes with the content.
    pub cid: Option<u32>,
    /// `parentCID`; `None` when the disk is no delta.
    pub parent_cid: Option<u32>,
    /// `parentFileNameHint`: where the disk below was when the delta was made.
    pub parent_hint: Option<String>,
    /// The extent lines, in the disk's order.
    pub extents: Vec<ExtentLine>,
    /// The entries of the disk database (`ddb.…`), as they stand.
    pub database: Vec<(String, String)>,
    /// The memory for all of it.
    hold: Option<Hold>,
}

/// A line that says where a part of the disk lies.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ExtentLine {
    /// Length in sectors.
    pub sectors: u64,
    /// How the part is stored.
    pub kind: ExtentKind,
    /// The file, for all kinds but zeros.
    pub file: Option<String>,
    /// First sector in the file, of flat extents.
    pub offset: u64,
}

/// How a part of the disk is stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ExtentKind {
    /// Plain bytes.
    Flat,
    /// A hosted sparse extent.
    Sparse,
    /// A datastore's sparse extent, of either kind.
    Datastore,
    /// Nothing: all zero.
    Zero,
    /// Another kind, by its word.
    Other(String),
}

impl ExtentLine {
    /// Reads `RW 4192256 SPARSE "name.vmdk" 0`; `None` when it is no such line.
    fn parse(line: &str) -> Option<Self> {
        let mut words = line.splitn(4, char::is_whitespace);
        let (_, sectors, kind) = (words.next()?, words.next()?.parse().ok()?, words.next()?);
        let rest = words.next().unwrap_or_default().trim();
        let kind = match kind {
            "FLAT" | "VMFS" => ExtentKind::Flat,
            "SPARSE" => ExtentKind::Sparse,
            "VMFSSPARSE" | "SESPARSE" => ExtentKind::Datastore,
            "ZERO" => ExtentKind::Zero,
            other => ExtentKind::Other(other.into()),
        };
        let (file, behind) = match rest.strip_prefix('"').and_then(|rest| rest.rsplit_once('"')) {
            Some((file, behind)) => (Some(file.to_string()), behind.trim()),
            None => (None, ""),
        };
        let offset = if behind.is_empty() { 0 } else { behind.split_whitespace().next()?.parse().ok()? };
        (file.is_some() || kind == ExtentKind::Zero).then_some(Self { sectors, kind, file, offset })
    }
}

impl Descriptor {
    /// Reads a descriptor; `path` names the file in errors, `offset` is where the text starts in it. What is kept of it is
    /// counted against `budget`.
    ///
    /// # Errors
    /// [`Error::Memory`]; [`Error::Damaged`] when it is not a descriptor or a number in it is none.
    #[expect(clippy::indexing_slicing, reason = "the end was found in these bytes")]
    pub fn parse(bytes: &[u8], path: &str, offset: u64, budget: &Arc<Budget>) -> Result<Self> {
        let end = bytes.iter().position(|&b| b == 0).unwrap_or(bytes.len());
        let text = String::from_utf8_lossy(&bytes[..end]);
        if !text.trim_start().starts_with("# Disk DescriptorFile") {
            return Err(Error::damaged(path, offset, "a descriptor was expected there, and its first line is missing"));
        }
        let mut hold = budget.take(text.len() as u64).map_err(Error::memory(path, "its descriptor"))?;
        let mut descriptor = Self::default();
        for line in text.lines().map(str::trim) {
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            let first = line.split_whitespace().next().unwrap_or_default();
            if matches!(first, "RW" | "RDONLY" | "NOACCESS") {
                let extent = ExtentLine::parse(line).ok_or_else(|| {
                    Error::damaged(path, offset, format!("the extent line {line:?}, expected length, kind and file"))
                })?;
                hold.grow(LINE).map_err(Error::memory(path, "its descriptor"))?;
                descriptor.extents.push(extent);
                continue;
            }
            let Some((key, value)) = line.split_once('=') else { continue };
            let (key, value) = (key.trim(), value.trim().trim_matches('"'));
            let cid = || {
                u32::from_str_radix(value, 16).map_err(|_| {
                    Error::damaged(path, offset, format!("{key} is {value:?}, expected eight hexadecimal digits"))
                })
            };
            match key {
                "parentFileNameHint" => descriptor.parent_hint = Some(value.into()),
                "createType" => descriptor.create_type = value.into(),
                "CID" => descriptor.cid = Some(cid()?),
                "parentCID" => descriptor.parent_cid = Some(cid()?).filter(|&cid| cid != NO_PARENT),
                _ if key.starts_with("ddb.") => {
                    hold.grow(LINE).map_err(Error::memory(path, "its descriptor"))?;
                    descriptor.database.push((key.into(), value.into()));
                }
                _ => {}
            }
        }
        descriptor.hold = Some(hold);
        Ok(descriptor)
    }

    /// Whether it says nothing: a piece of a disk has none, or an empty one.
    pub(super) fn is_empty(&self) -> bool {
        self.create_type.is_empty() && self.cid.is_none() && self.extents.is_empty() && self.database.is_empty()
    }

    /// An entry of the disk database.
    pub fn database(&self, key: &str) -> Option<&str> {
        self.database.iter().find(|(k, _)| k == key).map(|(_, value)| value.as_str())
    }
}

/// The text for a new disk of `sectors` of the kind `create_type`, whose parts lie as the lines `extents` say.
#[expect(clippy::cast_possible_truncation, reason = "any 32 of the random bits will do")]
pub(super) fn text(create_type: &str, extents: &[String], sectors: u64) -> String {
    // What starts with the content's digest on other hosts is random here: it has to differ, and to be neither of two
    // values that mean something.
    let cid = (Uuid::new_v4().as_u128() as u32) % (NO_PARENT - 2) + 1;
    let (heads, per_track) = geometry(sectors);
    let cylinders = (sectors / (heads * per_track)).clamp(1, 65535);
    let extents = extents.join("\n");
    format!(
        "# Disk DescriptorFile\nversion=1\nCID={cid:08x}\nparentCID=ffffffff\ncreateType=\"{create_type}\"\n\n\
         # Extent description\n{extents}\n\n# The Disk Data Base\n#DDB\n\n\
         ddb.virtualHWVersion = \"4\"\nddb.geometry.cylinders = \"{cylinders}\"\nddb.geometry.heads = \"{heads}\"\n\
         ddb.geometry.sectors = \"{per_track}\"\nddb.adapterType = \"lsilogic\"\n"
    )
}

/// Heads, and sectors of a track, that SCSI adapters give a disk of so many sectors.
fn geometry(sectors: u64) -> (u64, u64) {
    const GIB: u64 = (1 << 30) / crate::SECTOR;
    match sectors {
        0..GIB => (64, 32),
        GIB..=TWO_GIB => (128, 32),
        _ => (255, 63),
    }
}

const TWO_GIB: u64 = (2 << 30) / crate::SECTOR;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_keys_extents_and_database_in_any_spacing() {
        let text = "# Disk DescriptorFile\r\nversion=1\r\nCID=0a1b2c3d\r\nparentCID = ffffffff\r\n\
            createType=\"streamOptimized\"\r\n\r\n# Extent description\r\nRW 4192256 SPARSE \"a=b.vmdk\"\r\n\
            ddb.adapterType = \"lsilogic\"\r\n\0\0";
        let descriptor = Descriptor::parse(text.as_bytes(), "x", 512, &Budget::whole()).unwrap();
        assert_eq!(descriptor.cid, Some(0x0a1b_2c3d));
        assert_eq!(descriptor.parent_cid, None);
        let file = Some("a=b.vmdk".to_string());
        let line = ExtentLine { sectors: 4_192_256, kind: ExtentKind::Sparse, file, offset: 0 };
        assert_eq!(descriptor.extents, [line]);
        let flat = ExtentLine::parse("RW 63 FLAT \"a \"b\".vmdk\" 77").unwrap();
        assert_eq!((flat.kind, flat.offset, flat.file.as_deref()), (ExtentKind::Flat, 77, Some("a \"b\".vmdk")));
        assert!(ExtentLine::parse("RW 12 ZERO").is_some());
        assert!(ExtentLine::parse("RW x FLAT \"a\" 0").is_none() && ExtentLine::parse("RW 5 FLAT").is_none());
        assert_eq!(descriptor.create_type, "streamOptimized");
        assert_eq!(descriptor.database("ddb.adapterType"), Some("lsilogic"));
        assert!(Descriptor::parse(b"hello", "x", 0, &Budget::whole()).is_err());
        assert!(Descriptor::parse(b"# Disk DescriptorFile\nCID=zz\n", "x", 0, &Budget::whole()).is_err());
    }
}
