//! What follows from the kind of system (DMTF CIM schema, `CIM_OperatingSystem.OSType`).

use std::ops::RangeInclusive;

/// Systems of the DOS and NT families.
const LOCAL_TIME: [RangeInclusive<u16>; 8] =
    [14..=19, 58..=58, 63..=63, 67..=67, 69..=77, 103..=103, 105..=105, 111..=120];

/// Systems of before 2006: DOS and its successors, NT up to its version 5.2, Linux up to 2.4.
const OLD: [RangeInclusive<u16>; 6] = [14..=19, 58..=58, 63..=63, 67..=67, 69..=72, 97..=98];

pub(crate) fn keeps_local_time(os_type: u16) -> bool {
    LOCAL_TIME.iter().any(|range| range.contains(&os_type))
}

pub(crate) fn predates_pcie(os_type: u16) -> bool {
    OLD.iter().any(|range| range.contains(&os_type))
}
