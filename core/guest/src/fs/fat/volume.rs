//! FAT as a file system among others. A node is the byte of an entry's own slot, and 0 is the first folder.

use std::{ops::ControlFlow, sync::Arc};

use reformis_disk::budget::Budget;

use super::{Fat, read};
use crate::{
    error::{Error, Result},
    fs::{
        FileSystem, FileSystemMut,
        node::{Attribute, Entry, Facts, Kind, Meta, New, Node, Owner, Stat},
    },
};

const ROOT: u64 = 0;

/// Names on FAT are UTF-16; what is no text is no name here.
fn text(name: &[u8]) -> Result<&str> {
    let wrong = || Error::WrongKind { path: String::from_utf8_lossy(name).into(), wanted: "name that FAT can have" };
    std::str::from_utf8(name).map_err(|_| wrong())
}

impl Fat {
    fn folder_there(&self, node: Node) -> Result<read::Root> {
        let wrong = || Error::WrongKind { path: self.device.name().into(), wanted: "folder" };
        self.folder_at(node.number)?.ok_or_else(wrong)
    }
}

impl FileSystem for Fat {
    fn facts(&self) -> Result<Facts> {
        Ok(Facts { identity: Some(self.serial()), label: String::new() })
    }

    fn free(&self) -> Result<u64> {
        Ok(self.free_clusters()?.saturating_mul(self.geometry.cluster))
    }

    fn budget(&self) -> &Arc<Budget> {
        self.device.bench().budget()
    }

    fn root(&self) -> Node {
        Node::of(ROOT)
    }

    fn lookup(&self, folder: Node, name: &[u8]) -> Result<Option<Entry>> {
        let root = self.folder_there(folder)?;
        let Ok(name) = text(name) else { return Ok(None) };
        Ok(self.find(root, name)?.map(|entry| Entry { node: Node::of(entry.place), name: entry.name.into_bytes() }))
    }

    fn read_dir(&self, folder: Node, visit: &mut dyn FnMut(Entry) -> Result<ControlFlow<()>>) -> Result<()> {
        for entry in self.entries(self.folder_there(folder)?)? {
            if visit(Entry { name: entry.name.into_bytes(), node: Node::of(entry.place) })?.is_break() {
                break;
            }
        }
        Ok(())
    }

    fn stat(&self, node: Node) -> Result<Stat> {
        let entry = if node.number == ROOT { None } else { Some(self.entry_at(node.number)?) };
        // FAT knows no owners: what a system would show for root's mount.
        let is_folder = entry.as_ref().is_none_or(|entry| entry.is_folder);
        Ok(Stat {
            kind: if is_folder { Kind::Folder } else { Kind::File },
            special: None,
            size: entry.as_ref().map_or(0, |entry| entry.size),
            mode: 0o755,
            uid: 0,
            gid: 0,
            modified: entry.as_ref().map_or(0, |entry| entry.modified),
            nanoseconds: 0,
            links: 1,
            id: node.number,
        })
    }

    fn read_at(&self, node: Node, offset: u64, buf: &mut [u8]) -> Result<usize> {
        self.read_file(&self.entry_at(node.number)?, offset, buf)
    }

    fn link_target(&self, _: Node) -> Result<Vec<u8>> {
        Err(Error::WrongKind { path: self.device.name().into(), wanted: "link" })
    }

    fn check_writable(&self) -> Result<()> {
        Ok(())
    }
}

impl FileSystemMut for Fat {
    fn create(&mut self, folder: Node, name: &[u8], new: &New<'_>, _: &Owner) -> Result<Node> {
        if let New::Link(_) = new {
            let (volume, what) = (self.device.name().into(), "FAT has no links".into());
            return Err(Error::Unsupported { volume, action: "made", what });
        }
        let name = text(name)?;
        let place = self.make(folder.number, name, matches!(new, New::Folder))?;
        if let New::File(bytes) = new {
            self.put_at(place, 0, bytes)?;
        }
        Ok(Node::of(place))
    }

    fn write_at(&mut self, node: Node, offset: u64, bytes: &[u8]) -> Result<()> {
        self.put_at(node.number, offset, bytes)
    }

    fn truncate(&mut self, node: Node, size: u64) -> Result<()> {
        self.set_len(node.number, size)
    }

    fn rename(&mut self, from: Node, name: &[u8], to: Node, new: &[u8]) -> Result<Node> {
        Ok(Node::of(self.move_entry(from.number, text(name)?, to.number, text(new)?)?))
    }

    fn unlink(&mut self, folder: Node, name: &[u8]) -> Result<()> {
        self.remove(folder.number, text(name)?)
    }

    fn set_meta(&mut self, _: Node, _: &Meta) -> Result<()> {
        // There are no owners to set, and a mode of its own has no file.
        Ok(())
    }

    fn set_attributes(&mut self, _: Node, attributes: &[Attribute]) -> Result<()> {
        if attributes.is_empty() {
            return Ok(());
        }
        let (volume, what) = (self.device.name().into(), "it has no extended attributes".into());
        Err(Error::Unsupported { volume, action: "changed", what })
    }

    fn reload(&mut self) -> Result<()> {
        self.next_free = 2;
        Ok(())
    }
}
