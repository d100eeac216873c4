//! The identity that a machine gets here, where it brought none or is to have a new one.

use std::path::Path;

use reformis_machine::Mac;
use uuid::Uuid;

use crate::{landing::journal, staging::StagedFolder};

/// What a machine's own numbers are made from, in one landing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Identity(Uuid);

impl Identity {
    /// That of the landing in `folder` of `target`: what an earlier run began there keeps the identity that it was given, since bytes of
    /// disks that were sent, and what a cloud was asked for, may hold it already.
    pub(crate) fn of(folder: &Path, target: &str) -> Self {
        let begun = StagedFolder::left_by_us(folder).and_then(|left| journal::left(&left));
        let earlier = begun.filter(|head| head.target == target).and_then(|head| head.identity);
        Self(earlier.unwrap_or_else(Uuid::new_v4))
    }

    /// The machine's own number.
    pub(crate) const fn machine(self) -> Uuid {
        self.0
    }

    /// An address for the adapter at `index` that no maker gave out: locally administered, of one adapter (IEEE 802, section 8.4).
    pub(crate) fn mac(self, index: usize) -> Mac {
        // Bytes without the version's and the variant's bits (RFC 9562, section 5.4); neighbours differ in the last one.
        let [.., a, b, c, d, e] = self.0.into_bytes();
        let [.., low] = index.to_be_bytes();
        Mac::new([0x02, a, b, c, d, e.wrapping_add(low)])
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn adapters_of_a_machine_have_addresses_of_their_own() {
        let identity = Identity(Uuid::from_u128(u128::MAX));
        let macs: BTreeSet<String> = (0..64).map(|index| identity.mac(index).to_string()).collect();
        assert_eq!(macs.len(), 64);
        assert!(macs.iter().all(|mac| mac.starts_with("02:ff:ff:ff:ff:")));
        assert_ne!(Identity(Uuid::from_u128(1 << 20)).mac(0), Identity(Uuid::from_u128(2 << 20)).mac(0));
    }
}
