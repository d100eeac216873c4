//! The disks of a plan: shape, size and place of each.

use std::collections::BTreeMap;

use reformis_disk::{Format, Layout, Shape, container::packed::Wrapping, format};

use super::{PlannedDisk, settle::Settler};
use crate::{brief::NewDisk, finding::Finding, target::TargetDisk};

impl Settler<'_> {
    /// The disks in the brief's order; `None` when one cannot be had.
    #[expect(clippy::indexing_slicing, reason = "plans name disks of their own target, and a window of two has two")]
    pub(super) fn disks(&mut self) -> Option<Vec<PlannedDisk>> {
        let mut disks = Vec::new();
        let mut whole = true;
        for (index, new) in self.brief.disks.iter().enumerate() {
            let found = self.target.disks.iter().position(|disk| disk.id == new.source);
            let Some(source) = found else {
                let known = self.target.disks.iter().map(|disk| disk.id.as_str()).collect::<Vec<_>>().join(", ");
                self.findings.push(Finding::NoSuchDisk { disk: new.source.clone(), known });
                whole = false;
                continue;
            };
            let twice = self.brief.disks[..index].iter().any(|other| other.source == new.source);
            if twice {
                self.findings.push(Finding::DiskTwice { disk: new.source.clone() });
                whole = false;
            }
            let disk = &self.target.disks[source];
            whole &= disk.is_readable();
            match self.disk(source, index, new) {
                Some(disk) => disks.push(disk),
                None => whole = false,
            }
        }
        for disk in &self.target.disks {
            if !self.brief.disks.iter().any(|new| new.source == disk.id) {
                self.findings.push(Finding::DiskLeft { disk: disk.id.clone() });
            }
        }
        // What cannot be read was told when the target was opened.
        (whole && !disks.is_empty()).then_some(disks)
    }

    #[expect(clippy::indexing_slicing, reason = "plans name disks of their own target, and a window of two has two")]
    fn disk(&mut self, source: usize, index: usize, new: &NewDisk) -> Option<PlannedDisk> {
        let disk: &TargetDisk = &self.target.disks[source];
        let kind = self.brief.journey.machine_file;
        let offered: Vec<_> = self.destination.disks.iter().filter(|offer| offer.goes_with(kind)).collect();
        let shape = new.shape.to_string();
        if !offered.iter().any(|offer| offer.shape == shape) {
            let words = offered.iter().map(|offer| offer.shape.clone()).collect();
            self.not_offered("disk shape", shape, words);
            return None;
        }
        let wrapping = match new.compress.as_deref() {
            None => None,
            Some(word) => {
                match Wrapping::by_name(word).filter(|_| new.shape == Shape::new(Format::Raw, Layout::Thin)) {
                    Some(wrapping) => Some(wrapping),
                    None => {
                        self.not_offered(
                            "compression",
                            format!("{word} of {}", new.shape),
                            vec!["gzip or zstd of raw/thin".into()],
                        );
                        return None;
                    }
                }
            }
        };
        let rules = &self.destination.rules;
        let grown = new.grow.map_or(disk.size, |size| size.0);
        if grown < disk.size {
            self.findings.push(Finding::WouldShrink { disk: disk.id.clone(), size: disk.size, asked: grown });
            return None;
        }
        let multiple = new.align.map_or(1, |size| size.0).max(1);
        let aligned = format::stored_size(new.shape.format, grown).checked_next_multiple_of(multiple);
        let Some(size) = aligned else {
            self.findings.push(Finding::DiskTooLarge { disk: disk.id.clone(), size: disk.size, most: u64::MAX });
            return None;
        };
        if !size.is_multiple_of(rules.multiple()) {
            let multiple = rules.multiple();
            self.findings.push(Finding::SizeUneven { disk: disk.id.clone(), size, multiple });
        }
        if size != disk.size {
            self.findings.push(Finding::SizeRounded { disk: disk.id.clone(), size: disk.size, rounded: size });
        }
        let most = rules.largest().unwrap_or(u64::MAX);
        if size > most {
            self.findings.push(Finding::DiskTooLarge { disk: disk.id.clone(), size, most });
        }
        if let Err(error) = format::check_size(&disk.id, new.shape.format, size) {
            self.findings.push(Finding::DiskUnreadable { disk: disk.id.clone(), why: error.to_string() });
            return None;
        }
        let ending = match wrapping {
            Some(wrapping) => format!("{}.{}", new.shape.format, wrapping.extension()),
            None => new.shape.format.to_string(),
        };
        Some(PlannedDisk {
            source,
            file: format!("{}-{index}.{ending}", self.brief.machine.name),
            shape: new.shape,
            wrapping,
            size,
        })
    }

    /// Looks whether each disk has a place of its own, and one that boots; tells whether the destination has all places.
    #[expect(clippy::indexing_slicing, reason = "plans name disks of their own target, and a window of two has two")]
    pub(super) fn places(&mut self) -> bool {
        let mut all_there = true;
        let firmware = self.brief.machine.starts_with();
        let mut per_kind: BTreeMap<&str, usize> = BTreeMap::new();
        for (index, disk) in self.brief.disks.iter().enumerate() {
            let place = format!("{} {}:{}", disk.controller, disk.bus, disk.slot);
            let Some(controller) = self.destination.controllers.iter().find(|offer| offer.kind == disk.controller)
            else {
                let words = self.destination.controllers.iter().map(|offer| offer.kind.to_string()).collect();
                self.not_offered("controller", disk.controller, words);
                all_there = false;
                continue;
            };
            let count = per_kind.entry(disk.controller.name()).or_default();
            *count += 1;
            all_there &= controller.places().any(|known| known == (disk.bus, disk.slot));
            if *count == controller.slots as usize + 1 {
                let disks = self.brief.disks.iter().filter(|other| other.controller == disk.controller).count();
                self.findings.push(Finding::TooManyDisks {
                    disks,
                    controller: controller.kind,
                    slots: controller.slots,
                });
            } else if *count <= controller.slots as usize
                && !controller.places().any(|known| known == (disk.bus, disk.slot))
            {
                self.findings.push(Finding::NoSuchPlace { disk: disk.source.clone(), place: place.clone() });
            }
            let same =
                |other: &NewDisk| (other.controller, other.bus, other.slot) == (disk.controller, disk.bus, disk.slot);
            if let Some(other) = self.brief.disks[..index].iter().find(|other| same(other)) {
                let disks = (other.source.clone(), disk.source.clone());
                self.findings.push(Finding::PlaceTaken { first: disks.0, second: disks.1, place });
            }
            if disk.boot.is_some() && !controller.boots(firmware) {
                let firmware = firmware.to_string();
                self.findings.push(Finding::DoesNotBoot {
                    disk: disk.source.clone(),
                    controller: controller.kind,
                    firmware,
                });
            }
        }
        let mut boots: Vec<u32> = self.brief.disks.iter().filter_map(|disk| disk.boot).collect();
        boots.sort_unstable();
        if boots.windows(2).any(|pair| pair[0] == pair[1]) || boots.contains(&0) {
            self.findings.push(Finding::BootOrderUnclear);
        }
        if boots.is_empty() && !self.brief.disks.is_empty() {
            self.findings.push(Finding::NothingBoots);
        }
        all_there
    }
}
