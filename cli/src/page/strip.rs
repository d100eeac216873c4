//! A disk as a strip: what holds data, and where edits wrote.

use maud::{Markup, html};
use reformis_disk::ByteSize;
use reformis_move::report::DiskReport;

/// Width and height of the drawing, in its own units: a cell is four wide.
const CELL: usize = 4;
const HEIGHT: usize = 28;
/// Height of the row that marks edits.
const EDITS: usize = 6;

pub(super) fn chart(disk: &DiskReport) -> Markup {
    let map = &disk.map;
    let cells = usize::try_from(disk.after.virtual_size.div_ceil(map.cell)).unwrap_or(usize::MAX).min(4096);
    let width = cells * CELL;
    let told = match &map.held {
        Some(held) => {
            let holding = held.iter().filter(|percent| **percent > 0).count();
            format!("{holding} of {cells} cells of {} hold data, {} were edited", ByteSize(map.cell), map.edited.len())
        }
        None => format!("where it holds data is not known here; {} of {cells} cells were edited", map.edited.len()),
    };
    html! {
        svg.strip viewBox={ "0 0 " (width) " " (HEIGHT) } preserveAspectRatio="none" role="img" aria-label=(told) {
            title { (told) }
            rect.empty x="0" y="0" width=(width) height=(HEIGHT - EDITS - 2) {}
            @for (index, percent) in map.held.iter().flatten().enumerate().filter(|(_, percent)| **percent > 0) {
                // Even a little is seen.
                rect.held x=(index * CELL) y="0" width=(CELL) height=(HEIGHT - EDITS - 2) opacity=(format!("{:.2}", 0.25 + 0.0075 * f64::from(*percent))) {}
            }
            @for index in &map.edited {
                rect.edited x=(index * CELL) y=(HEIGHT - EDITS) width=(CELL) height=(EDITS) {}
            }
        }
        p.legend { (told) "." }
    }
}
