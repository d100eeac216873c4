//! Whether the kernel finds the controllers of its disks.

use super::super::{Evidence, Link, State, hardware::Need};
use crate::{
    formats::{
        early::Image,
        modules::{Driver, Modules},
    },
    refit::edit,
    system::linux::{Kernel, Linux, images::Images},
};

/// Whether an image holds the module with this path below the folder of modules, packed in whichever way.
pub(crate) fn image_has(image: &Image, version: &str, path: &str) -> bool {
    let stem = path.split_once(".ko").map_or(path, |(stem, _)| stem);
    let endings = ["", ".xz", ".zst", ".gz"];
    endings.iter().any(|ending| image.has(&format!("lib/modules/{version}/{stem}.ko{ending}")))
        || endings.iter().any(|ending| image.has(&format!("usr/lib/modules/{version}/{stem}.ko{ending}")))
}

/// The modules that an image lacks to drive `needs`; or what no module of the kernel drives.
#[expect(
    clippy::indexing_slicing,
    reason = "systems name volumes of their own guest, and dependencies modules of their own index"
)]
pub(crate) fn lacking(
    modules: &Modules,
    image: Option<&Image>,
    version: &str,
    needs: &[Need],
) -> Result<Vec<String>, String> {
    let mut missing = Vec::new();
    for need in needs {
        match modules.driver(&need.device, &need.module) {
            Some(Driver::Builtin(_)) => {}
            Some(Driver::Module(name)) => {
                for one in modules.closure(&name) {
                    let path = &modules.files[&one].path;
                    if !image.is_some_and(|image| image_has(image, version, path)) && !missing.contains(&one) {
                        missing.push(one);
                    }
                }
            }
            None => return Err(format!("no module of this kernel drives {} ({})", need.device, need.module)),
        }
    }
    Ok(missing)
}

/// The link of the driver of one controller.
pub(super) fn driver_link(
    system: &Linux,
    kernel: &Kernel,
    modules: Option<&Modules>,
    controller: &str,
    needs: &[Need],
    images: &mut Images,
) -> Evidence {
    let link =
        |state, seen: String| Evidence::new(Link::Driver, format!("{controller}, {}", kernel.version), state, seen);
    let Some(modules) = modules else {
        return link(State::Unknown, format!("no modules are listed for {}", kernel.version));
    };
    let names: Vec<&str> = needs.iter().map(|need| need.module.as_str()).collect();
    let names = names.join(", ");
    let Some(path) = kernel.initrds.last() else {
        return match lacking(modules, None, &kernel.version, needs) {
            Ok(missing) if missing.is_empty() => link(State::Holds, format!("{names}: part of the kernel")),
            Ok(missing) => {
                link(State::Broken, format!("{} are modules, and there is no early boot image", missing.join(", ")))
            }
            Err(why) => link(State::Broken, why),
        };
    };
    // Every image has to hold them: which one is started is the person's choice.
    for path in &kernel.initrds {
        let outcome = images.read(&system.tree, path);
        let Ok(image) = outcome.as_ref() else {
            return link(State::Unknown, format!("{path} cannot be read"));
        };
        // Microcode alone is no image that drives anything.
        if kernel.initrds.len() > 1 && !image.paths().any(|path| path.contains("lib/modules")) {
            continue;
        }
        match lacking(modules, Some(image), &kernel.version, needs) {
            Ok(missing) if missing.is_empty() => {}
            Ok(missing) => {
                let lacks = missing.join(", ");
                if kernel.is_unified {
                    let seen = format!("the early boot image in {path} lacks {lacks}, and it is sealed");
                    return link(State::Broken, seen);
                }
                return link(State::Broken, format!("{path} lacks {lacks}")).mended_by(edit::DRIVERS);
            }
            Err(why) => return link(State::Broken, why),
        }
    }
    link(State::Holds, format!("{names} in {path} or part of the kernel"))
}
