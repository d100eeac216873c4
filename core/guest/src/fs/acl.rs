//! Access lists: as programs of the guest set and see them, as two of the file systems store them, and what something new gets from its folder.
//!
//! Among attributes they are in the form that programs see (Linux, `include/uapi/linux/posix_acl_xattr.h`, version 2); each file system turns
//! them into its own where it stores them.

/// Kinds of entries (Linux, `include/uapi/linux/posix_acl.h`).
mod tag {
    pub const OWNER: u16 = 1;
    pub const USER: u16 = 2;
    pub const OWNING_GROUP: u16 = 4;
    pub const GROUP: u16 = 8;
    pub const MASK: u16 = 16;
    pub const OTHERS: u16 = 32;
}

/// The number of an entry that names nobody.
const NOBODY: u32 = u32::MAX;
const VERSION: u32 = 2;
/// The version of what ext stores (Linux, `fs/ext4/acl.h`).
const EXT_VERSION: u32 = 1;

/// What one of them may do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Entry {
    tag: u16,
    permissions: u16,
    id: u32,
}

impl Entry {
    fn is_named(self) -> bool {
        matches!(self.tag, tag::USER | tag::GROUP)
    }
}

/// An access list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct AccessList(Vec<Entry>);

fn le16(bytes: &[u8]) -> Option<u16> {
    Some(u16::from_le_bytes(bytes.get(..2)?.try_into().ok()?))
}

fn le32(bytes: &[u8]) -> Option<u32> {
    Some(u32::from_le_bytes(bytes.get(..4)?.try_into().ok()?))
}

fn be32(bytes: &[u8]) -> Option<u32> {
    le32(bytes).map(u32::swap_bytes)
}

impl AccessList {
    /// The one that programs see; `None` for what is none.
    pub(crate) fn of(value: &[u8]) -> Option<Self> {
        let (head, entries) = value.split_at_checked(4)?;
        if le32(head) != Some(VERSION) || entries.len() % 8 != 0 {
            return None;
        }
        let entry = |bytes: &[u8]| {
            Some(Entry { tag: le16(bytes)?, permissions: le16(bytes.get(2..)?)?, id: le32(bytes.get(4..)?)? })
        };
        entries.chunks_exact(8).map(entry).collect::<Option<_>>().map(Self)
    }

    /// As programs see it.
    pub(crate) fn value(&self) -> Vec<u8> {
        let entry = |entry: &Entry| {
            [&entry.tag.to_le_bytes()[..], &entry.permissions.to_le_bytes(), &entry.id.to_le_bytes()].concat()
        };
        VERSION.to_le_bytes().into_iter().chain(self.0.iter().flat_map(entry)).collect()
    }

    /// The one that ext stores: a number stands only where somebody is named.
    pub(crate) fn of_ext(value: &[u8]) -> Option<Self> {
        let (head, mut rest) = value.split_at_checked(4)?;
        if le32(head) != Some(EXT_VERSION) {
            return None;
        }
        let mut entries = Vec::new();
        while !rest.is_empty() {
            let mut entry = Entry { tag: le16(rest)?, permissions: le16(rest.get(2..)?)?, id: NOBODY };
            rest = rest.get(4..)?;
            if entry.is_named() {
                entry.id = le32(rest)?;
                rest = rest.get(4..)?;
            }
            entries.push(entry);
        }
        Some(Self(entries))
    }

    /// As ext stores it.
    pub(crate) fn ext_value(&self) -> Vec<u8> {
        let entry = |entry: &Entry| {
            let id = entry.id.to_le_bytes();
            let id = if entry.is_named() { &id[..] } else { &[] };
            [&entry.tag.to_le_bytes()[..], &entry.permissions.to_le_bytes(), id].concat()
        };
        EXT_VERSION.to_le_bytes().into_iter().chain(self.0.iter().flat_map(entry)).collect()
    }

    /// The one that XFS stores (Linux, `fs/xfs/libxfs/xfs_format.h`, `struct xfs_acl`): big-endian, behind their number.
    pub(crate) fn of_xfs(value: &[u8]) -> Option<Self> {
        let (head, entries) = value.split_at_checked(4)?;
        let count = usize::try_from(be32(head)?).ok()?;
        // Old volumes have room for 25, whatever there is.
        let entries = entries.get(..count.checked_mul(12)?)?;
        let entry = |bytes: &[u8]| {
            let tag = u16::try_from(be32(bytes)?).ok()?;
            let entry = Entry { tag, permissions: le16(bytes.get(8..)?)?.swap_bytes(), id: be32(bytes.get(4..)?)? };
            Some(if entry.is_named() { entry } else { Entry { id: NOBODY, ..entry } })
        };
        entries.chunks_exact(12).map(entry).collect::<Option<_>>().map(Self)
    }

    /// As XFS stores it.
    pub(crate) fn xfs_value(&self) -> Vec<u8> {
        let entry = |entry: &Entry| {
            let permissions = entry.permissions.to_be_bytes();
            [&u32::from(entry.tag).to_be_bytes()[..], &entry.id.to_be_bytes(), &permissions, &[0; 2]].concat()
        };
        let count = u32::try_from(self.0.len()).unwrap_or(u32::MAX);
        count.to_be_bytes().into_iter().chain(self.0.iter().flat_map(entry)).collect()
    }

    /// What something gets that is made with `mode` in a folder whose default list this is, and its mode then; `None` where the mode says all
    /// (Linux, `fs/posix_acl.c`, `posix_acl_create_masq`).
    pub(crate) fn inherited(&self, mode: u16) -> (Option<Self>, u16) {
        let mut list = self.clone();
        let mut bits = mode & 0o777;
        let mut says_more = false;
        let has_mask = list.0.iter().any(|entry| entry.tag == tag::MASK);
        for entry in &mut list.0 {
            let shift = match entry.tag {
                tag::OWNER => 6,
                tag::OTHERS => 0,
                tag::MASK => 3,
                // Where there is a mask, it stands for the group.
                tag::OWNING_GROUP if !has_mask => 3,
                tag::OWNING_GROUP => continue,
                _ => {
                    says_more = true;
                    continue;
                }
            };
            entry.permissions &= bits >> shift & 7;
            bits &= entry.permissions << shift | !(7 << shift);
        }
        (Some(list).filter(|_| says_more || has_mask), mode & !0o777 | bits)
    }

    /// As GNU tar and others write it: entries with commas between them, people by their numbers.
    fn text(&self) -> String {
        let entry = |entry: &Entry| {
            let (word, id) = match entry.tag {
                tag::OWNER => ("user", String::new()),
                tag::USER => ("user", entry.id.to_string()),
                tag::OWNING_GROUP => ("group", String::new()),
                tag::GROUP => ("group", entry.id.to_string()),
                tag::MASK => ("mask", String::new()),
                _ => ("other", String::new()),
            };
            let may = |bit: u16, letter: char| if entry.permissions & bit == 0 { '-' } else { letter };
            format!("{word}:{id}:{}{}{}", may(4, 'r'), may(2, 'w'), may(1, 'x'))
        };
        self.0.iter().map(entry).collect::<Vec<_>>().join(",")
    }
}

/// An access list that programs see, as a text that archivers know; `None` for what is none.
pub fn access_text(value: &[u8]) -> Option<String> {
    AccessList::of(value).map(|list| list.text())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn list() -> impl Strategy<Value = AccessList> {
        let named =
            prop::collection::vec((prop_oneof![Just(tag::USER), Just(tag::GROUP)], 0..8_u16, 0..u32::MAX), 0..5);
        (named, 0..8_u16, any::<bool>()).prop_map(|(named, permissions, has_mask)| {
            let plain = |tag: u16| Entry { tag, permissions, id: NOBODY };
            let mut all = vec![plain(tag::OWNER)];
            all.extend(named.into_iter().map(|(tag, permissions, id)| Entry { tag, permissions, id }));
            all.push(plain(tag::OWNING_GROUP));
            all.extend(has_mask.then(|| plain(tag::MASK)));
            all.push(plain(tag::OTHERS));
            AccessList(all)
        })
    }

    proptest! {
        #[test]
        fn each_form_says_the_same(list in list(), mode in 0..0o7777_u16) {
            prop_assert_eq!(AccessList::of(&list.value()), Some(list.clone()));
            prop_assert_eq!(AccessList::of_ext(&list.ext_value()), Some(list.clone()));
            prop_assert_eq!(AccessList::of_xfs(&list.xfs_value()), Some(list.clone()));
            let (_, made) = list.inherited(mode);
            prop_assert_eq!(made & !mode, 0, "nobody may more than was asked for");
        }

        #[test]
        fn what_is_none_is_told(noise in prop::collection::vec(any::<u8>(), 0..60)) {
            for read in [AccessList::of, AccessList::of_ext, AccessList::of_xfs] {
                read(&noise);
            }
        }
    }
}
