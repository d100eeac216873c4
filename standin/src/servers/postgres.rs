//! PostgreSQL from Debian's package, in a folder of its own, at a free port and with TLS of an own authority.

use std::{
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::Command,
};

use anyhow::{Context, Result, bail};

use super::{Authority, free_port};

/// The password of the user `reformis`.
pub const PASSWORD: &str = "ebb-and-flow";

/// A running PostgreSQL with an empty database `night` of the user `reformis`.
pub struct Postgres {
    programs: PathBuf,
    folder: PathBuf,
    /// Its port, at all addresses of this machine.
    pub port: u16,
}

impl Postgres {
    /// Whether it is installed.
    pub fn is_installed() -> bool {
        programs().is_some()
    }

    /// Starts it with its data in `folder`; its certificate, which `authority` has issued, is for `localhost`.
    ///
    /// # Errors
    /// It is not there, or refuses.
    pub fn start(folder: &Path, authority: &Authority) -> Result<Self> {
        let programs = programs().context("PostgreSQL is not installed")?;
        let server = Self { programs, folder: folder.into(), port: free_port()? };
        std::fs::create_dir_all(folder)?;
        let data = server.data();
        std::fs::write(folder.join("password"), PASSWORD)?;
        for (from, to) in [("local.pem", "server.crt"), ("local.key", "server.key")] {
            std::fs::copy(authority.folder().join(from), folder.join(to))?;
            std::fs::set_permissions(folder.join(to), PermissionsExt::from_mode(0o600))?;
        }
        server.give_away()?;
        let text = |path: PathBuf| path.to_string_lossy().into_owned();
        let password = text(folder.join("password"));
        server.run(
            "initdb",
            &["-D", &text(data.clone()), "-U", "reformis", "-A", "scram-sha-256", "--pwfile", &password],
        )?;
        let settings = format!(
            "port = {}\nlisten_addresses = '*'\nunix_socket_directories = ''\nmax_connections = 200\nssl = on\nssl_cert_file = '{}'\nssl_key_file = '{}'\n",
            server.port,
            text(folder.join("server.crt")),
            text(folder.join("server.key")),
        );
        append(&data.join("postgresql.conf"), &settings)?;
        append(&data.join("pg_hba.conf"), "host all all all scram-sha-256\n")?;
        server.up()?;
        let port = server.port.to_string();
        server.run("createdb", &["-h", "127.0.0.1", "-p", &port, "-U", "reformis", "night"])?;
        Ok(server)
    }

    fn data(&self) -> PathBuf {
        self.folder.join("data")
    }

    /// Starts it again.
    ///
    /// # Errors
    /// It refuses.
    pub fn up(&self) -> Result<()> {
        let (data, log) = (self.data(), self.folder.join("log"));
        self.run("pg_ctl", &["-D", &data.to_string_lossy(), "-l", &log.to_string_lossy(), "-w", "-t", "60", "start"])
    }

    /// Stops it at once: clients lose their connections, and what was not committed is gone.
    ///
    /// # Errors
    /// It does not run.
    pub fn down(&self) -> Result<()> {
        self.run("pg_ctl", &["-D", &self.data().to_string_lossy(), "-m", "immediate", "-w", "stop"])
    }

    /// Its address, without the password.
    pub fn address(&self) -> String {
        format!("postgres://reformis@localhost:{}/night", self.port)
    }

    /// It refuses to run as root: its files are another user's then.
    fn give_away(&self) -> Result<()> {
        if rustix::process::geteuid().is_root() {
            let done = Command::new("chown").arg("-R").arg("postgres").arg(&self.folder).status()?;
            if !done.success() {
                bail!("the folder cannot be given to the user postgres");
            }
            // Its way there must be open, too.
            for folder in self.folder.ancestors().skip(1).take_while(|folder| folder.starts_with(std::env::temp_dir()))
            {
                if folder != std::env::temp_dir() {
                    std::fs::set_permissions(folder, PermissionsExt::from_mode(0o755))?;
                }
            }
        }
        Ok(())
    }

    fn run(&self, program: &str, words: &[&str]) -> Result<()> {
        let path = self.programs.join(program);
        let mut command = if rustix::process::geteuid().is_root() {
            let mut command = Command::new("setpriv");
            command.args(["--reuid=postgres", "--regid=postgres", "--clear-groups"]).arg(path);
            command
        } else {
            Command::new(path)
        };
        // What stays running must not hold our pipes.
        let said = self.folder.join("said");
        let out = std::fs::File::create(&said)?;
        command.args(words).current_dir("/").env("PGPASSWORD", PASSWORD).stdin(std::process::Stdio::null());
        let done = command.stdout(out.try_clone()?).stderr(out).status()?;
        if !done.success() {
            bail!("{program}: {}", std::fs::read_to_string(said).unwrap_or_default());
        }
        Ok(())
    }
}

impl Drop for Postgres {
    fn drop(&mut self) {
        self.down().ok();
    }
}

fn append(file: &Path, text: &str) -> Result<()> {
    let before = std::fs::read_to_string(file)?;
    Ok(std::fs::write(file, before + text)?)
}

/// The folder of the newest version's programs.
fn programs() -> Option<PathBuf> {
    let versions = std::fs::read_dir("/usr/lib/postgresql").ok()?;
    let mut folders: Vec<PathBuf> = versions
        .flatten()
        .map(|version| version.path().join("bin"))
        .filter(|bin| bin.join("initdb").exists())
        .collect();
    folders.sort();
    folders.pop()
}
