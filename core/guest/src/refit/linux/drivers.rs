//! The edit `drivers`: an archive behind each early boot image, with the modules that it lacks for the new disks, and the
//! kernel's index of modules, so that the guest's own loader finds them.

use std::{collections::BTreeMap, io::Read, sync::Arc};

use reformis_disk::{budget::Budget, container::packed::Wrapping};

use super::{Edits, kmod};
use crate::refit::work::{Changes, Remark};
use crate::{
    error::{Error, Result},
    evidence,
    formats::{
        early::{Image, Writer},
        modules::{Modules, name_of},
    },
    fs::tree::Tree,
    system::linux::Kernel,
};

/// The largest module that is read, in bytes.
const MAX_MODULE: u64 = 32 << 20;

/// Index files, as they are in a kernel's folder.
const INDEX: [&str; 11] = [
    "modules.alias",
    "modules.alias.bin",
    "modules.builtin",
    "modules.builtin.alias.bin",
    "modules.builtin.bin",
    "modules.builtin.modinfo",
    "modules.dep",
    "modules.dep.bin",
    "modules.softdep",
    "modules.symbols",
    "modules.symbols.bin",
];

/// The endings of packed modules.
const PACKED: [&str; 3] = [".xz", ".zst", ".gz"];

impl Edits<'_, '_> {
    pub(crate) fn drivers(&mut self) -> Changes {
        let system = &*self.system;
        let needs: Vec<_> = evidence::linux::root_needs(self.work.guest, system, self.work.hardware);
        let needs: Vec<_> = needs.into_iter().flat_map(|(_, needs)| needs).collect();
        if needs.is_empty() {
            return Ok(Vec::new());
        }
        // What the person may put it on later is made ready too, as far as the kernel can drive it.
        let others = evidence::linux::other_needs(self.work.guest, system, self.work.hardware);
        let kernels: Vec<Kernel> = system.kernels.clone();
        let mut changes = Vec::new();
        let mut added: Vec<String> = Vec::new();
        for kernel in &kernels {
            let left = |why: String| Remark::KernelLeft { kernel: kernel.version.clone(), why };
            let modules = self.system.images.modules(&self.system.tree, kernel);
            let (Some(folder), Some(modules)) = (&kernel.modules, modules) else {
                self.work.remarks.push(left("its modules are not there".into()));
                continue;
            };
            if kernel.is_unified {
                // What it lacks is told by the chain.
                continue;
            }
            for path in &kernel.initrds {
                let outcome = self.system.images.read(&self.system.tree, path);
                let system = &*self.system;
                let image = match outcome.as_ref() {
                    Ok(image) => image,
                    Err(why) => {
                        self.work.remarks.push(left(format!("{path} cannot be read: {why}")));
                        continue;
                    }
                };
                if kernel.initrds.len() > 1 && !image.paths().any(|path| path.contains("lib/modules")) {
                    continue;
                }
                let missing = match evidence::linux::drivers::lacking(&modules, Some(image), &kernel.version, &needs) {
                    Ok(missing) => missing,
                    Err(why) => {
                        self.work.remarks.push(left(why));
                        continue;
                    }
                };
                let lacking =
                    |needs: &Vec<_>| evidence::linux::drivers::lacking(&modules, Some(image), &kernel.version, needs);
                let mut more: Vec<String> = others.iter().filter_map(|needs| lacking(needs).ok()).flatten().collect();
                more.sort();
                more.dedup();
                more.retain(|name| !missing.contains(name));
                if missing.is_empty() && more.is_empty() {
                    continue;
                }
                let supplement =
                    Supplement { tree: &system.tree, image, modules: &modules, folder, version: &kernel.version };
                let size = system.tree.stat(path)?.size;
                let made = |names: &[String]| -> Result<Vec<u8>> {
                    Ok([vec![0; image.gap(size)], supplement.archive(names, self.work.now)?].concat())
                };
                let room = system.tree.room(path)?;
                let mut all = [missing.clone(), more].concat();
                let mut made_of_all = made(&all);
                let fits = made_of_all.as_ref().is_ok_and(|bytes| bytes.len() as u64 <= room);
                if !fits && all.len() > missing.len() {
                    // What is needed comes first: of the others a file may be gone, or there is no room for them.
                    if missing.is_empty() {
                        continue;
                    }
                    made_of_all = made(&missing);
                    all = missing;
                }
                let (missing, bytes) = (all, made_of_all?);
                if room < bytes.len() as u64 {
                    let (needed, free) = (bytes.len() as u64, room);
                    return Err(Error::NoRoom { volume: path.clone(), unit: "bytes".into(), needed, free });
                }
                self.system.tree.append(path, &bytes)?;
                changes.push(format!("{path} got {}", missing.join(", ")));
                let named =
                    |name: &String| needs.iter().chain(others.iter().flatten()).any(|need| need.module == *name);
                added.extend(missing.into_iter().filter(named));
            }
        }
        added.sort();
        added.dedup();
        if !added.is_empty() {
            changes.extend(self.make_it_last(&added)?);
        }
        Ok(changes)
    }

    /// Tells the distribution's own tool to take the modules into images that it makes later.
    fn make_it_last(&mut self, modules: &[String]) -> Changes {
        let tree = &mut self.system.tree;
        let names = modules.join(" ");
        if tree.is_folder("/etc/initramfs-tools") {
            let path = "/etc/initramfs-tools/modules";
            let text = tree.text(path).unwrap_or_default();
            let listed = |name: &String| text.lines().any(|line| line.split_whitespace().next() == Some(name));
            let new: Vec<&String> = modules.iter().filter(|name| !listed(name)).collect();
            if new.is_empty() {
                return Ok(Vec::new());
            }
            let lines: String = new.iter().map(|name| format!("{name}\n")).collect();
            let gap = if text.is_empty() || text.ends_with('\n') { "" } else { "\n" };
            tree.set_text(
                path,
                &format!("{text}{gap}# For the disks of the host that this system was moved to.\n{lines}"),
            )?;
            return Ok(vec![format!("{path} names {names} for the next image")]);
        }
        if tree.exists("/etc/dracut.conf") || tree.is_folder("/usr/lib/dracut") {
            let path = "/etc/dracut.conf.d/50-moved-disks.conf";
            tree.make_folders("/etc/dracut.conf.d")?;
            let text =
                format!("# For the disks of the host that this system was moved to.\nadd_drivers+=\" {names} \"\n");
            tree.set_text(path, &text)?;
            return Ok(vec![format!("{path} names {names} for the next image")]);
        }
        let path = "/etc/mkinitcpio.conf";
        if let Some(text) = tree.text(path) {
            // Assignments of the shell: one more at the end adds to what there is.
            let line = format!("MODULES+=({names})\n");
            if !text.contains(&line) {
                let gap = if text.ends_with('\n') { "" } else { "\n" };
                tree.set_text(
                    path,
                    &format!("{text}{gap}# For the disks of the host that this system was moved to.\n{line}"),
                )?;
                return Ok(vec![format!("{path} names {names} for the next image")]);
            }
        }
        Ok(Vec::new())
    }
}

/// What is made for one image.
struct Supplement<'a> {
    tree: &'a Tree,
    image: &'a Image,
    modules: &'a Modules,
    /// The kernel's folder in the guest.
    folder: &'a str,
    version: &'a str,
}

impl Supplement<'_> {
    /// Where modules lie in the image: its own layout is kept, since a folder in the place of a link would replace the link.
    fn base(&self) -> String {
        let real = |path: &str| self.image.real(path).unwrap_or_else(|| path.to_string());
        let lib = real("lib");
        let lib = if !self.image.is_folder("lib") && self.image.is_folder("usr/lib") { real("usr/lib") } else { lib };
        real(&format!("{lib}/modules/{}", self.version))
    }

    /// Whether the image keeps modules unpacked that the guest keeps packed.
    fn unpacks(&self, base: &str) -> bool {
        let inside = || self.image.paths().filter(|path| path.starts_with(base));
        inside().any(|path| path.ends_with(".ko"))
            && !inside().any(|path| PACKED.iter().any(|ending| path.ends_with(&format!(".ko{ending}"))))
    }

    #[expect(clippy::string_slice, reason = "cut where the ending or the slash was found")]
    fn archive(&self, missing: &[String], now: i64) -> Result<Vec<u8>> {
        let base = self.base();
        let is_packed = |path: &str| PACKED.iter().any(|ending| path.ends_with(ending));
        let unpack = self.unpacks(&base) && self.modules.files.values().any(|module| is_packed(&module.path));
        let plain = |path: &str| {
            let ending = PACKED.iter().find(|ending| unpack && path.ends_with(*ending));
            ending.map_or(path, |ending| &path[..path.len() - ending.len()]).to_string()
        };
        let mut files: BTreeMap<String, Vec<u8>> = BTreeMap::new();
        let mut hold = self.tree.budget().hold();
        for name in missing {
            let Some(module) = self.modules.files.get(name) else { continue };
            let path = &module.path;
            let bytes = self.tree.read(format!("{}/{path}", self.folder), MAX_MODULE)?;
            let bytes = if unpack { unpacked(path, bytes, self.tree.budget())? } else { bytes };
            hold.grow(bytes.len() as u64)?;
            files.insert(format!("{base}/{}", plain(path)), bytes);
        }
        for name in INDEX {
            if let Some(bytes) = self.tree.some(format!("{}/{name}", self.folder), MAX_MODULE) {
                hold.grow(bytes.len() as u64)?;
                files.insert(format!("{base}/{name}"), bytes);
            }
        }
        if unpack {
            // The index has to name files as they are in the image.
            let lines: BTreeMap<String, String> = self
                .modules
                .files
                .iter()
                .map(|(name, module)| {
                    let needs = module.needs.iter().filter_map(|need| self.modules.files.get(need));
                    let needs: String = needs.map(|need| format!(" {}", plain(&need.path))).collect();
                    (name.clone(), format!("{}:{needs}", plain(&module.path)))
                })
                .collect();
            let text: String = lines.values().map(|line| format!("{line}\n")).collect();
            files.insert(format!("{base}/modules.dep.bin"), kmod::index(&lines));
            files.insert(format!("{base}/modules.dep"), text.into_bytes());
        }
        let mut writer = Writer::new(now);
        let mut made: Vec<String> = Vec::new();
        for (path, bytes) in &files {
            let ends = path.match_indices('/').map(|(at, _)| at);
            for folder in ends.map(|at| &path[..at]) {
                if !self.image.is_folder(folder) && !made.iter().any(|known| known == folder) {
                    writer.folder(folder);
                    made.push(folder.into());
                }
            }
            writer.file(path, bytes, 0o644);
        }
        Ok(writer.finish())
    }
}

fn unpacked(path: &str, bytes: Vec<u8>, budget: &Arc<Budget>) -> Result<Vec<u8>> {
    let broken = |what: String| Error::Damaged { volume: format!("module {}", name_of(path)), what };
    let Some(kind) = path.rsplit_once('.').and_then(|(_, ending)| Wrapping::from_extension(ending)) else {
        return Ok(bytes);
    };
    let mut plain = Vec::new();
    let unpacker = kind.unpack(&bytes[..], path, budget).map_err(|error| broken(error.to_string()))?;
    unpacker.take(MAX_MODULE + 1).read_to_end(&mut plain).map_err(|error| broken(error.to_string()))?;
    if plain.len() as u64 > MAX_MODULE {
        return Err(broken(format!("it unpacks to more than {} MiB", MAX_MODULE >> 20)));
    }
    Ok(plain)
}
