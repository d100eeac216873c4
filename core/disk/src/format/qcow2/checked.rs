//! The header, checked.

use zerocopy::FromBytes;

use super::header::{HeaderMore, HeaderV2, HeaderV3, LAZY_REFCOUNTS, MAGIC, incompatible};
use crate::{
    error::{Error, Result},
    facts::Facts,
    format::new::Squeeze,
    shape::{Format, Layout, Shape},
    source::{Storage, read_vec},
    trouble::Trouble,
};

/// What the header says, checked.
pub(super) struct Header {
    pub(super) fixed: HeaderV2,
    pub(super) version: u32,
    pub(super) incompatible: u64,
    pub(super) compatible: u64,
    pub(super) autoclear: u64,
    pub(super) refcount_bits: u32,
    /// Length of the whole header in bytes; extensions follow.
    pub(super) len: u64,
    pub(super) cluster_bits: u32,
    pub(super) size: u64,
    pub(super) compression: Squeeze,
}

impl Header {
    #[expect(clippy::indexing_slicing, reason = "one byte was read")]
    pub(super) fn read(storage: &dyn Storage) -> Result<Self> {
        let path = storage.name().to_string();
        let damaged = |offset: u64, what: String| Err(Error::damaged(&path, offset, what));
        let unsupported = |what: String| Err(Error::Unsupported { path: path.clone(), what });
        let bytes = read_vec(storage, 0, size_of::<HeaderV2>(), "the header")?;
        let Ok((fixed, _)) = HeaderV2::read_from_prefix(&bytes) else {
            return damaged(0, "no header".into());
        };
        if fixed.magic != MAGIC {
            return damaged(0, "the first bytes are not those of a qcow2 image".into());
        }
        let version = fixed.version.get();
        let cluster_bits = fixed.cluster_bits.get();
        let mut header = Self {
            fixed,
            version,
            incompatible: 0,
            compatible: 0,
            autoclear: 0,
            refcount_bits: 16,
            len: size_of::<HeaderV2>() as u64,
            cluster_bits,
            size: fixed.size.get(),
            compression: Squeeze::Deflate,
        };
        match version {
            2 => {}
            3 => {
                let bytes = read_vec(storage, header.len, size_of::<HeaderV3>(), "the header")?;
                if let Ok((more, _)) = HeaderV3::read_from_prefix(&bytes) {
                    header.incompatible = more.incompatible_features.get();
                    header.compatible = more.compatible_features.get();
                    header.autoclear = more.autoclear_features.get();
                    if more.refcount_order.get() > 6 {
                        return damaged(96, format!("counts of 2^{} bits, at most 2^6", more.refcount_order));
                    }
                    header.refcount_bits = 1 << more.refcount_order.get();
                    header.len = more.header_length.get().into();
                }
            }
            other => return unsupported(format!("it is of version {other}; versions 2 and 3 are known")),
        }
        let unknown = header.incompatible & !incompatible::KNOWN;
        if unknown != 0 {
            return unsupported(format!("it uses the feature bit {}", unknown.trailing_zeros()));
        }
        if !(9..=21).contains(&cluster_bits) {
            return damaged(20, format!("clusters of 2^{cluster_bits} bytes, expected 2^9 to 2^21"));
        }
        if header.has(incompatible::EXTENDED_L2) && cluster_bits < 14 {
            return damaged(20, format!("subclusters in clusters of 2^{cluster_bits} bytes, expected 2^14 or more"));
        }
        if header.has(incompatible::COMPRESSION_TYPE) {
            let at = (size_of::<HeaderV2>() + size_of::<HeaderV3>()) as u64;
            let bytes = read_vec(storage, at, size_of::<HeaderMore>(), "the compression type")?;
            header.compression = match bytes[0] {
                0 => Squeeze::Deflate,
                1 => Squeeze::Zstd,
                other => return unsupported(format!("its clusters are compressed with method {other}")),
            };
        }
        Ok(header)
    }

    pub(super) fn has(&self, feature: u64) -> bool {
        self.incompatible & feature != 0
    }

    pub(super) fn cluster(&self) -> u64 {
        1 << self.cluster_bits
    }

    pub(super) fn facts(&self, storage: &dyn Storage) -> Facts {
        let shape = Shape::new(Format::Qcow2, Layout::Thin);
        let mut facts = Facts::new(shape, format!("version {}", self.version), self.size, storage);
        facts.unit = Some(("cluster".into(), self.cluster()));
        facts.dirty = self.has(incompatible::DIRTY);
        if self.compression == Squeeze::Zstd {
            facts.compression = Some("zstd".into());
        }
        facts.detail("refcounts", format!("{} bits", self.refcount_bits));
        let features = [
            (self.has(incompatible::EXTENDED_L2), "extended L2 entries"),
            (self.compatible & LAZY_REFCOUNTS != 0, "lazy refcounts"),
            (self.has(incompatible::DIRTY), "dirty"),
        ];
        let named: Vec<_> = features.into_iter().filter(|(there, _)| *there).map(|(_, name)| name).collect();
        facts.detail("features", named.join(", "));
        let file = storage.name().to_string();
        let method = match self.fixed.crypt_method.get() {
            0 => None,
            1 => Some("AES".to_string()),
            2 => Some("LUKS".to_string()),
            other => Some(format!("method {other}")),
        };
        facts.troubles.extend(method.map(|method| Trouble::Encrypted { file: file.clone(), method }));
        if self.has(incompatible::CORRUPT) {
            facts.troubles.push(Trouble::Corrupt { file });
        }
        facts
    }
}
