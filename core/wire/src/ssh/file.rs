//! Opening what an SSH link leads to.

use std::sync::Arc;

use reformis_disk::error::WireKind;

use super::{dd::DdFile, pool::Pool, sftp::SftpFile};
use crate::{fault::Fault, link::Link, remote::Remote};

/// Pieces that are read by `dd` at the same time: each is a program there, which has to start.
const PIECES_BY_DD: usize = 4;

/// Opens the file or device at `link`: by SFTP, else by `dd` there; with `depth` pieces at the same time, where the person says
/// how many.
///
/// # Errors
/// What the try came to.
pub(crate) fn open(pool: &Arc<Pool>, link: &Link, depth: Option<usize>) -> Result<Arc<dyn Remote>, Fault> {
    match SftpFile::open(pool, link, depth) {
        Ok(file) => Ok(Arc::new(file)),
        Err(Fault::Fatal(WireKind::Refused, what)) if what.contains("SFTP") => {
            tracing::info!(%link, what, "read by dd");
            Ok(Arc::new(DdFile::open(pool, link, depth.unwrap_or(PIECES_BY_DD))?))
        }
        Err(fault) => Err(fault),
    }
}
