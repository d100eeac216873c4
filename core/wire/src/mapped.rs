//! A remote with a map of what holds data: all else is zero, and is not fetched.

use std::sync::Arc;

use reformis_disk::{
    disk::Extent,
    source::{Access, Version},
};
use serde::Deserialize;

use crate::{
    fault::{Fault, Stop},
    remote::{Limits, Remote},
};

/// The most runs that a map may have.
const MANY: usize = 1 << 20;

/// A map as it is sent.
#[derive(Deserialize)]
pub(crate) struct Map {
    /// Runs that hold data: where each begins, and its length, in bytes.
    data: Vec<(u64, u64)>,
}

impl From<Vec<(u64, u64)>> for Map {
    fn from(data: Vec<(u64, u64)>) -> Self {
        Self { data }
    }
}

impl Map {
    /// The runs, if they are in order, apart, and inside of `len` bytes.
    pub(crate) fn sound(self, len: u64) -> Option<Vec<(u64, u64)>> {
        let mut end = 0;
        for (start, run) in &self.data {
            if *start < end || *run == 0 {
                return None;
            }
            end = start.checked_add(*run).filter(|end| *end <= len)?;
        }
        (self.data.len() <= MANY).then_some(self.data)
    }
}

/// A remote whose map is known.
pub(crate) struct Mapped {
    remote: Arc<dyn Remote>,
    data: Vec<(u64, u64)>,
}

impl Mapped {
    /// `remote` with `map`.
    pub(crate) fn shared(remote: Arc<dyn Remote>, map: Map) -> Result<Arc<dyn Remote>, Fault> {
        let data = map.sound(remote.len()).ok_or_else(|| Fault::protocol("its map of pages is not sound"))?;
        Ok(Arc::new(Self { remote, data }))
    }

    /// The first run that ends behind `at`.
    fn first_behind(&self, at: u64) -> usize {
        self.data.partition_point(|(start, run)| start + run <= at)
    }
}

impl Remote for Mapped {
    fn name(&self) -> &str {
        self.remote.name()
    }

    fn len(&self) -> u64 {
        self.remote.len()
    }

    fn version(&self) -> Version {
        self.remote.version()
    }

    fn access(&self) -> Access {
        self.remote.access()
    }

    fn limits(&self) -> Limits {
        self.remote.limits()
    }

    /// Fetches from the first byte of data to the last; what lies around them is zero.
    fn fetch(&self, at: u64, buf: &mut [u8], stop: &Stop) -> Result<(), Fault> {
        let end = at + buf.len() as u64;
        let (first, behind) = (self.first_behind(at), self.data.partition_point(|(start, _)| *start < end));
        let runs = self.data.get(first..behind).unwrap_or_default();
        buf.fill(0);
        let (Some((start, _)), Some((last, len))) = (runs.first(), runs.last()) else { return Ok(()) };
        let (from, to) = (at.max(*start) - at, end.min(last + len) - at);
        let part = buf.get_mut(reformis_disk::to_usize(from)..reformis_disk::to_usize(to)).unwrap_or_default();
        self.remote.fetch(at + from, part, stop)
    }

    fn map(&self, at: u64, len: u64, _: &Stop) -> Result<Vec<Extent>, Fault> {
        let end = at.saturating_add(len).min(self.len());
        let (mut found, mut place) = (Vec::new(), at);
        let first = self.first_behind(at);
        for (start, run) in self.data.iter().skip(first) {
            if *start >= end {
                break;
            }
            if *start > place {
                found.push(Extent::zero(place, start - place));
            }
            let from = place.max(*start);
            place = start + run;
            found.push(Extent::data(from, place - from));
        }
        if place < end {
            found.push(Extent::zero(place, end - place));
        }
        Ok(found)
    }

    fn has_map(&self) -> bool {
        true
    }

    fn renew(&self, why: &str, stop: &Stop) -> Result<(), Fault> {
        self.remote.renew(why, stop)
    }

    fn check(&self, stop: &Stop) -> Result<(), Fault> {
        self.remote.check(stop)
    }

    fn sibling(&self, name: &str, stop: &Stop) -> Result<Arc<dyn Remote>, Fault> {
        self.remote.sibling(name, stop)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Twelve bytes of nothing.
    struct Twelve;

    impl Remote for Twelve {
        fn name(&self) -> &'static str {
            "twelve"
        }
        fn len(&self) -> u64 {
            12
        }
        fn version(&self) -> Version {
            Version::Unknown
        }
        fn access(&self) -> Access {
            Access::OWNER
        }
        fn limits(&self) -> Limits {
            Limits { piece: 4, depth: 1 }
        }
        fn fetch(&self, _: u64, buf: &mut [u8], _: &Stop) -> Result<(), Fault> {
            buf.fill(7);
            Ok(())
        }
        fn check(&self, _: &Stop) -> Result<(), Fault> {
            Ok(())
        }
        fn sibling(&self, _: &str, _: &Stop) -> Result<Arc<dyn Remote>, Fault> {
            Err(Fault::again("none"))
        }
    }

    #[test]
    fn the_map_of_any_range_is_that_of_its_bytes() {
        let runs = vec![(0, 2), (4, 1), (5, 2), (9, 3)];
        let is_data = |byte: u64| runs.iter().any(|(start, len)| (*start..start + len).contains(&byte));
        let mapped = Mapped::shared(Arc::new(Twelve), Map { data: runs.clone() }).unwrap();
        for at in 0..12 {
            for len in 1..=12 - at {
                let found = mapped.map(at, len, &Stop::default()).unwrap();
                let mut place = at;
                for extent in &found {
                    assert_eq!(extent.start, place, "{at}+{len}");
                    place = extent.end();
                    let data = *extent == Extent::data(extent.start, extent.len);
                    assert!((extent.start..extent.end()).all(|byte| is_data(byte) == data), "{at}+{len}: {extent:?}");
                }
                assert!(place >= at + len && place <= 12, "{at}+{len}");
                let mut bytes = vec![9; len as usize];
                mapped.fetch(at, &mut bytes, &Stop::default()).unwrap();
                assert!(
                    (at..).zip(bytes).all(|(byte, found)| found == 7 || !is_data(byte) && found == 0),
                    "{at}+{len}"
                );
            }
        }
    }

    #[test]
    fn a_map_that_is_not_sound_is_refused() {
        for data in [vec![(0, 13)], vec![(4, 2), (5, 1)], vec![(4, 2), (0, 1)], vec![(3, 0)], vec![(u64::MAX, 2)]] {
            assert!(Mapped::shared(Arc::new(Twelve), Map { data: data.clone() }).is_err(), "{data:?}");
        }
    }
}
