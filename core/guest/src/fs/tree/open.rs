//! Files of a tree that were opened: read at any place, or on and on.

use std::io::{self, Read};

use super::{Place, Tree, shown};
use crate::{
    error::{Error, Result},
    fs::{
        Shared,
        node::{Kind, Node},
    },
};

/// Bytes that are read at a time.
const PIECE: usize = 1 << 20;

impl Tree {
    /// The file at `path`, to be read at any place.
    ///
    /// # Errors
    /// As [`Tree::read`].
    pub(crate) fn open_file(&self, path: &str) -> Result<OpenFile> {
        let (found, Place { fs, node }, stat) = self.there(path.as_bytes(), true)?;
        if stat.kind != Kind::File {
            return Err(Error::WrongKind { path: shown(&found.path), wanted: "file" });
        }
        Ok(OpenFile { fs, node, path: shown(&found.path), size: stat.size })
    }

    /// The bytes of the file at `path`, to be read on and on.
    ///
    /// # Errors
    /// As [`Tree::read`].
    pub fn reader(&self, path: impl AsRef<[u8]>) -> Result<impl Read> {
        let (found, Place { fs, node }, stat) = self.there(path.as_ref(), true)?;
        if stat.kind != Kind::File {
            return Err(Error::WrongKind { path: shown(&found.path), wanted: "file" });
        }
        Ok(io::BufReader::with_capacity(PIECE, Reader { fs, node, at: 0 }))
    }
}

/// A file that is read at any place.
pub(crate) struct OpenFile {
    fs: Shared,
    node: Node,
    /// Its path, links followed.
    pub(crate) path: String,
    /// Its length in bytes.
    pub(crate) size: u64,
}

impl OpenFile {
    /// Fills `buf` from `offset`, as far as it goes; the number of bytes.
    ///
    /// # Errors
    /// Those of reading.
    pub(crate) fn fill(&self, offset: u64, buf: &mut [u8]) -> Result<usize> {
        self.fs.lock().read_at(self.node, offset, buf)
    }
}

/// A file that is read on and on.
struct Reader {
    fs: Shared,
    node: Node,
    at: u64,
}

impl Read for Reader {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = self.fs.lock().read_at(self.node, self.at, buf).map_err(io::Error::other)?;
        self.at += len as u64;
        Ok(len)
    }
}
