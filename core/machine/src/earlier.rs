//! What is kept of the file that a machine was read from, when it is written in the same kind again.
//!
//! A stranger may have written that file, and its host does what it says: some settings run programs there, or open files,
//! devices and sockets. So only what is known to be harmless stays, unless the person knows the file.

/// Which settings stay that the machine does not speak of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Keep {
    /// Those that are known to do nothing on a host but set a number or a switch of the machine.
    #[default]
    Harmless,
    /// All of them.
    Everything,
}

/// The file that a machine was read from.
#[derive(Debug, Clone, Copy)]
pub struct Earlier<'t> {
    /// Its text.
    pub text: &'t str,
    /// What stays of it.
    pub keep: Keep,
}

/// What a setting of an earlier file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Rank {
    /// The machine says it anew, or it is bound to the earlier place.
    Ours,
    /// It stays.
    Harmless,
    /// It may do anything.
    Unknown,
}

impl Rank {
    /// `Ours` for a name in the first list, `Harmless` for one in the second.
    pub(crate) fn of(name: &str, ours: &[&str], harmless: &[&str]) -> Self {
        if ours.contains(&name) {
            Self::Ours
        } else if harmless.contains(&name) {
            Self::Harmless
        } else {
            Self::Unknown
        }
    }
}
