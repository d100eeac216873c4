//! Opening what an SSH link leads to.

use std::sync::Arc;

use reformis_disk::error::WireKind;

use super::{dd::DdFile, session::Session, sftp::SftpFile};
use crate::{fault::Fault, link::Link, remote::Remote};

/// Opens the file or device at `link`: by SFTP, else by `dd` there.
///
/// # Errors
/// What the try came to.
pub(crate) fn open(session: &Arc<Session>, link: &Link, depth: usize) -> Result<Arc<dyn Remote>, Fault> {
    match SftpFile::open(session, link, depth) {
        Ok(file) => Ok(Arc::new(file)),
        Err(Fault::Fatal(WireKind::Refused, what)) if what.contains("SFTP") => {
            tracing::info!(%link, what, "read by dd");
            Ok(Arc::new(DdFile::open(session, link, depth)?))
        }
        Err(fault) => Err(fault),
    }
}
