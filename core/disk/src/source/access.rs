//! Who may read and write a file: what is made from it is never open to more people.

use std::os::unix::fs::MetadataExt;

/// The bits for reading and writing of a file's mode, and the group that the middle three are for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Access {
    mode: u32,
    group: Option<u32>,
}

impl Access {
    /// What anybody may read and write; the process's own mask (umask) is all that narrows it.
    pub const ANYBODY: Self = Self { mode: 0o666, group: None };

    /// What only the one who runs us may read and write: what was had by a credential.
    pub const OWNER: Self = Self { mode: 0o600, group: None };

    /// That of the file or device which `metadata` describes.
    pub fn of(metadata: &std::fs::Metadata) -> Self {
        Self { mode: metadata.mode() & 0o666, group: Some(metadata.gid()) }
    }

    /// What both allow. Where their groups differ, a group may do only what everybody may.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        let group = match (self.group, other.group) {
            (Some(one), Some(two)) if one != two => {
                let (one, two) = (self.without_group(), other.without_group());
                return Self { mode: one.mode & two.mode, group: self.group };
            }
            (one, two) => one.or(two),
        };
        Self { mode: self.mode & other.mode, group }
    }

    /// The mode of a new file in `group` that is no wider than this. Its owner, who could read the source, may always read
    /// and write it.
    pub fn mode_in(self, group: u32) -> u32 {
        let narrowed = if self.group.is_none_or(|own| own == group) { self } else { self.without_group() };
        narrowed.mode | 0o600
    }

    fn without_group(self) -> Self {
        let others = self.mode & 0o006;
        Self { mode: self.mode & (0o606 | others << 3), group: None }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_gets_wider() {
        let file = |mode, group| Access { mode, group: Some(group) };
        assert_eq!(file(0o640, 7).mode_in(7), 0o640);
        assert_eq!(file(0o640, 7).mode_in(8), 0o600, "another group");
        assert_eq!(file(0o664, 7).mode_in(8), 0o644);
        assert_eq!(file(0o444, 7).mode_in(7), 0o644, "its owner may write");
        assert_eq!(Access::ANYBODY.mode_in(3), 0o666);
        assert_eq!(file(0o640, 7).and(Access::ANYBODY), file(0o640, 7));
        assert_eq!(file(0o660, 7).and(file(0o600, 7)).mode_in(7), 0o600);
        assert_eq!(file(0o660, 7).and(file(0o664, 8)).mode_in(7), 0o600, "group 8 may not read the first");
    }
}
