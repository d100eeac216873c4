//! A certificate authority, made by `openssl` for one test.

use std::{
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

use anyhow::{Context, Result, bail};

/// An authority in a folder.
pub struct Authority {
    folder: PathBuf,
}

fn openssl(folder: &Path, line: &str) -> Result<()> {
    let mut command = Command::new("openssl");
    command.current_dir(folder).args(line.split(' ')).stdout(Stdio::null()).stderr(Stdio::piped());
    let out = command.output().context("starting openssl")?;
    if !out.status.success() {
        bail!("openssl {line}: {}", String::from_utf8_lossy(&out.stderr));
    }
    Ok(())
}

impl Authority {
    /// Makes one in `folder`: `ca.pem`.
    ///
    /// # Errors
    /// `openssl` is not there, or refuses.
    pub fn new(folder: &Path) -> Result<Self> {
        let authority = Self { folder: folder.into() };
        openssl(
            folder,
            "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout ca.key -out ca.pem -days 30 -subj /CN=Saltmarsh \
             -addext basicConstraints=critical,CA:TRUE -addext keyUsage=critical,keyCertSign,cRLSign",
        )?;
        Ok(authority)
    }

    /// A certificate `NAME.pem` with its key `NAME.key`, for `names` (`DNS:…,IP:…`), of a server or of a client.
    ///
    /// # Errors
    /// `openssl` refuses.
    pub fn issue(&self, name: &str, names: &str, usage: &str) -> Result<()> {
        let extensions = format!(
            "subjectAltName={names}\nextendedKeyUsage={usage}\nkeyUsage=critical,digitalSignature,keyEncipherment\n\
             basicConstraints=critical,CA:FALSE\n"
        );
        std::fs::write(self.folder.join("extensions"), extensions)?;
        openssl(
            &self.folder,
            &format!(
                "req -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout {name}.key -out {name}.csr -subj /CN={name}"
            ),
        )?;
        openssl(
            &self.folder,
            &format!(
                "x509 -req -in {name}.csr -CA ca.pem -CAkey ca.key -CAcreateserial -days 30 -out {name}.pem -extfile extensions"
            ),
        )
    }

    /// Where its files are.
    pub fn folder(&self) -> &Path {
        &self.folder
    }
}
