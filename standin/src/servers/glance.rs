//! The image service of an open-source cloud (Debian's package `glance-api`), with a database of its own and nobody to ask for tokens.

use std::{
    fs,
    net::TcpStream,
    path::Path,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use anyhow::{Result, bail};

use super::free_port;

/// A service that runs until it is dropped.
pub struct Glance {
    child: Child,
    port: u16,
}

impl Glance {
    /// Starts one that keeps all it has in `folder`.
    ///
    /// # Errors
    /// It cannot be started, or does not answer within two minutes.
    pub fn start(folder: &Path) -> Result<Self> {
        for name in ["images", "stage", "tasks"] {
            fs::create_dir_all(folder.join(name))?;
        }
        let (port, place) = (free_port()?, folder.display());
        let settings = format!(
            "[DEFAULT]\nbind_host = 127.0.0.1\nbind_port = {port}\nenabled_backends = disk:file\nworkers = 0\nlog_file = {place}/log\n\
             [database]\nconnection = sqlite:///{place}/glance.sqlite\n[glance_store]\ndefault_backend = disk\n\
             [disk]\nfilesystem_store_datadir = {place}/images\n[os_glance_staging_store]\nfilesystem_store_datadir = {place}/stage\n\
             [os_glance_tasks_store]\nfilesystem_store_datadir = {place}/tasks\n[paste_deploy]\nflavor =\n\
             config_file = /etc/glance/glance-api-paste.ini\n[oslo_policy]\npolicy_file = {place}/policy.yaml\n"
        );
        let file = folder.join("glance.conf");
        fs::write(&file, settings)?;
        fs::write(folder.join("policy.yaml"), "{}\n")?;
        let run = |program: &str| {
            let mut command = Command::new(program);
            command.arg("--config-file").arg(&file).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
            command
        };
        if !run("glance-manage").arg("db_sync").status()?.success() {
            bail!("the image service's database could not be made");
        }
        let glance = Self { child: run("glance-api").spawn()?, port };
        let begun = Instant::now();
        while TcpStream::connect(("127.0.0.1", port)).is_err() {
            if begun.elapsed() > Duration::from_secs(120) {
                bail!("the image service does not answer");
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        Ok(glance)
    }

    /// Its link.
    pub fn link(&self) -> String {
        format!("http://127.0.0.1:{}", self.port)
    }
}

impl Drop for Glance {
    fn drop(&mut self) {
        self.child.kill().ok();
        self.child.wait().ok();
    }
}
