//! OpenSSH's server with keys of its own.

use std::{
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
};

use anyhow::{Context, Result, bail};

use super::{free_port, wait_for_port};

/// A running server, which lets in who has the key `id` in its folder.
pub struct Sshd {
    folder: PathBuf,
    child: Child,
    /// Where it listens.
    pub port: u16,
}

impl Sshd {
    /// Starts one with its files in `folder`; without SFTP unless `sftp`.
    ///
    /// # Errors
    /// The server is not there, or refuses.
    pub fn start(folder: &Path, sftp: bool) -> Result<Self> {
        let port = free_port()?;
        for key in ["host", "id"] {
            if !folder.join(key).exists() {
                let out = Command::new("ssh-keygen")
                    .args(["-q", "-t", "ed25519", "-N", "", "-f"])
                    .arg(folder.join(key))
                    .output()
                    .context("starting ssh-keygen")?;
                if !out.status.success() {
                    bail!("ssh-keygen: {}", String::from_utf8_lossy(&out.stderr));
                }
            }
        }
        let d = folder.display();
        std::fs::copy(folder.join("id.pub"), folder.join("authorized_keys"))?;
        let subsystem = if sftp { "Subsystem sftp /usr/lib/openssh/sftp-server\n" } else { "" };
        let text = format!(
            "ListenAddress 127.0.0.1:{port}\nHostKey {d}/host\nPidFile none\nAuthorizedKeysFile {d}/authorized_keys\n\
             PasswordAuthentication no\nKbdInteractiveAuthentication no\nPermitRootLogin prohibit-password\nStrictModes no\n\
             UsePAM no\nMaxSessions 64\nMaxStartups 64\n{subsystem}"
        );
        std::fs::write(folder.join("sshd_config"), text)?;
        std::fs::create_dir_all("/run/sshd").ok();
        let child = Command::new("/usr/sbin/sshd")
            .args(["-D", "-e", "-f"])
            .arg(folder.join("sshd_config"))
            .stdin(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .context("starting sshd")?;
        let server = Self { folder: folder.into(), child, port };
        wait_for_port(port)?;
        std::fs::write(folder.join("known_hosts"), server.known_host()?)?;
        Ok(server)
    }

    /// Kills the processes that serve its connections.
    ///
    /// # Errors
    /// The program that does it is not there.
    pub fn kill_sessions(&self) -> Result<()> {
        // Those of a connection lead their own group, below the one that listens.
        let out = Command::new("pkill").args(["-KILL", "-P", &self.child.id().to_string()]).output();
        out.map(drop).context("starting pkill (Debian's procps)")
    }

    /// Its line of a file of known hosts.
    ///
    /// # Errors
    /// Its key cannot be read.
    pub fn known_host(&self) -> Result<String> {
        let key = std::fs::read_to_string(self.folder.join("host.pub"))?;
        let words: Vec<_> = key.split(' ').take(2).collect();
        Ok(format!("[127.0.0.1]:{} {}\n", self.port, words.join(" ").trim()))
    }
}

impl Drop for Sshd {
    fn drop(&mut self) {
        self.child.kill().ok();
        self.child.wait().ok();
    }
}
