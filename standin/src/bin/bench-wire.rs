//! How fast disks come over the network, as ratios to what else fetches the same bytes: see `tools/bench-wire`.
//!
//! Starts nginx, OpenSSH and the emulator's NBD server on this machine, and runs PROGRAM and the others in turns.

#![expect(clippy::print_stdout, reason = "a table for whoever measures")]

use std::{
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::{Duration, Instant},
};

use anyhow::{Context, Result, bail};
use reformis_standin::servers::{Authority, NbdServer, Nginx, Proxy, Sshd};

/// How often each is run; the median counts.
const ROUNDS: usize = 5;

struct Bench {
    program: PathBuf,
    folder: PathBuf,
    mib: u64,
}

impl Bench {
    fn path(&self, name: &str) -> String {
        self.folder.join(name).to_string_lossy().into_owned()
    }

    /// Seconds that `words` take.
    fn time(&self, words: &[&str]) -> Result<f64> {
        let start = Instant::now();
        let out = Command::new(words[0]).args(&words[1..]).current_dir(&self.folder).stdin(Stdio::null()).output();
        let out = out.with_context(|| format!("starting {}", words[0]))?;
        if !out.status.success() {
            bail!("{}: {}", words.join(" "), String::from_utf8_lossy(&out.stderr));
        }
        Ok(start.elapsed().as_secs_f64())
    }

    fn recast(&self, link: &str) -> Result<f64> {
        let (program, result) = (self.program.to_string_lossy().into_owned(), self.path("out.qcow2"));
        std::fs::remove_file(&result).ok();
        self.time(&[&program, "recast", link, &result, "--from", "raw", "--site", "site.toml", "--quiet"])
    }

    /// The medians of both in turns, and their ratio.
    fn compare(&self, what: &str, ours: impl Fn() -> Result<f64>, other: impl Fn() -> Result<f64>) -> Result<()> {
        let (mut one, mut two) = (Vec::new(), Vec::new());
        for _ in 0..ROUNDS {
            one.push(ours()?);
            two.push(other()?);
        }
        let (one, two) = (median(one), median(two));
        let rate = |seconds: f64| self.mib as f64 * 1.048_576 / seconds;
        println!("{what:<54} {:>7.0} MB/s {:>7.0} MB/s {:>7.2} x", rate(one), rate(two), two / one);
        Ok(())
    }
}

fn median(mut times: Vec<f64>) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

fn main() -> Result<()> {
    let words: Vec<String> = std::env::args().collect();
    let [_, program, folder, mib] = &words[..] else { bail!("bench-wire PROGRAM FOLDER MIB") };
    let bench = Bench { program: program.into(), folder: folder.into(), mib: mib.parse()? };
    let www = bench.folder.join("www");
    std::fs::create_dir_all(&www)?;
    let disk = www.join("disk.img");
    // Bytes that do not compress.
    let script = format!(
        "openssl enc -aes-128-ctr -K 00 -iv 00 -in /dev/zero 2>/dev/null | head -c {}M >'{}'",
        bench.mib,
        disk.display()
    );
    Command::new("sh").args(["-c", &script]).status()?;
    let authority = Authority::new(&bench.folder)?;
    authority.issue("server", "DNS:store.inner.example", "serverAuth")?;
    authority.issue("local", "DNS:localhost,IP:127.0.0.1", "serverAuth")?;
    authority.issue("client", "DNS:client.inner.example", "clientAuth")?;
    let nginx = Nginx::start(&bench.folder, &www, &authority)?;
    let sshd = Sshd::start(&bench.folder, true)?;
    let holes = bench.folder.join("holes.raw");
    std::fs::copy(&disk, &holes)?;
    std::fs::File::options().write(true).open(&holes)?.set_len(bench.mib << 24)?;
    let nbd = NbdServer::start(&bench.folder, &disk, Some(&authority))?;
    let plain = NbdServer::start(&bench.folder, &holes, None)?;
    let far = Proxy::start(([127, 0, 0, 1], nginx.certificates).into(), Duration::from_millis(10))?;
    let far_ssh = Proxy::start(([127, 0, 0, 1], sshd.port).into(), Duration::from_millis(10))?;
    let (local, ssh) =
        (format!("https://localhost:{}", nginx.certificates), format!("ssh://root@127.0.0.1:{}", sshd.port));
    let known = std::fs::read_to_string(bench.folder.join("known_hosts"))?;
    let far_port = far_ssh.address().port();
    std::fs::write(
        bench.folder.join("known_hosts"),
        format!("{known}{}", known.replace(&sshd.port.to_string(), &far_port.to_string())),
    )?;
    let site = format!(
        "[link.\"{local}\"]\nauthorities = [\"ca.pem\"]\n\
         [link.\"{local}/far\"]\nauthorities = [\"ca.pem\"]\nconnect-to = \"{}\"\n\
         [link.\"{local}/one\"]\nauthorities = [\"ca.pem\"]\nconnect-to = \"{}\"\nconnections = 1\n\
         [link.\"{ssh}\"]\nkey = \"id\"\nknown-hosts = \"known_hosts\"\n\
         [link.\"ssh://root@127.0.0.1:{far_port}\"]\nkey = \"id\"\nknown-hosts = \"known_hosts\"\n\
         [link.\"nbds://localhost:{}\"]\nauthorities = [\"ca.pem\"]\nclient-certificate = \"client.pem\"\nclient-key = \"client.key\"\n",
        far.address(),
        far.address(),
        nbd.port
    );
    std::fs::write(bench.folder.join("site.toml"), site)?;
    for name in ["far", "one"] {
        std::os::unix::fs::symlink(&www, www.join(name)).ok();
    }
    let (image, path) = (format!("{local}/disk.img"), disk.to_string_lossy().into_owned());
    let target = bench.path("fetched");
    println!("{:<54} {:>12} {:>12}", format!("{} MiB", bench.mib), "ours", "the other");
    let port = sshd.port.to_string();
    let ssh_options = |program: &str| {
        let mut words = vec![program.to_string()];
        words.extend(
            [
                "-o",
                "UserKnownHostsFile=known_hosts",
                "-o",
                "IdentitiesOnly=yes",
                "-i",
                "id",
                "-c",
                "aes128-gcm@openssh.com",
                "-P",
            ]
            .map(String::from),
        );
        words.push(port.clone());
        words
    };
    bench.compare(
        "https to qcow2 : curl to a file",
        || bench.recast(&image),
        || bench.time(&["curl", "-s", "--cacert", "ca.pem", "-o", &target, &image]),
    )?;
    bench.compare(
        "sftp to qcow2 : sftp to a file",
        || bench.recast(&format!("{ssh}{path}")),
        || {
            let mut words = ssh_options("sftp");
            words.extend(["-q".into(), format!("root@127.0.0.1:{path}"), target.clone()]);
            bench.time(&words.iter().map(String::as_str).collect::<Vec<_>>())
        },
    )?;
    let device = block_device(&disk);
    if let Some(device) = &device {
        // As people type it, and with the cipher that we ask for.
        for (what, asks) in [("ssh dd", false), ("ssh dd with aes128-gcm", true)] {
            bench.compare(
                &format!("block device by ssh to qcow2 : {what}"),
                || bench.recast(&format!("{ssh}{}", device.0)),
                || {
                    let mut words = ssh_options("ssh");
                    words.iter_mut().filter(|word| *word == "-P").for_each(|word| *word = "-p".into());
                    if let Some(cipher) = words.iter().position(|word| word == "-c").filter(|_| !asks) {
                        words.drain(cipher..cipher + 2);
                    }
                    words.extend(["root@127.0.0.1".into(), format!("dd if={} bs=1M status=none", device.0)]);
                    let line = words.iter().map(|word| format!("'{word}'")).collect::<Vec<_>>().join(" ");
                    bench.time(&["sh", "-c", &format!("{line} >{target}")])
                },
            )?;
        }
    }
    bench.compare(
        "nbd with tls to qcow2 : https to qcow2",
        || bench.recast(&format!("nbds://localhost:{}/disk", nbd.port)),
        || bench.recast(&image),
    )?;
    bench.compare(
        "nbd, 15 of 16 parts holes : https, no holes",
        || bench.recast(&format!("nbd://127.0.0.1:{}/disk", plain.port)),
        || bench.recast(&image),
    )?;
    // One range of 1 MiB at a time, at a round trip of 20 ms, as a plain loop does.
    let once = |count: u64| -> Result<f64> {
        let ranges: Vec<String> = (0..count)
            .flat_map(|index| {
                let at = index << 20;
                [
                    "-s".into(),
                    "-o".into(),
                    "/dev/null".into(),
                    "-r".into(),
                    format!("{at}-{}", at + (1 << 20) - 1),
                    image.clone(),
                    "--next".into(),
                ]
            })
            .collect();
        let mut words = vec!["curl".to_string()];
        for part in ranges[..ranges.len() - 1].split(|word| word == "--next") {
            if words.len() > 1 {
                words.push("--next".into());
            }
            words.extend(["--cacert".into(), "ca.pem".into(), "--connect-to".into(), format!("::{}", far.address())]);
            words.extend(part.iter().cloned());
        }
        Ok(bench.time(&words.iter().map(String::as_str).collect::<Vec<_>>())? * bench.mib as f64 / count as f64)
    };
    bench.compare(
        "https at 20 ms : one range of 1 MiB at a time",
        || bench.recast(&format!("{local}/far/disk.img")),
        || once(64.min(bench.mib)),
    )?;
    bench.compare(
        "sftp at 20 ms : the same",
        || bench.recast(&format!("ssh://root@127.0.0.1:{far_port}{path}")),
        || once(64.min(bench.mib)),
    )?;
    drop(device);
    Ok(())
}

/// A loop device of a file, while it is held.
struct Loop(String);

fn block_device(file: &Path) -> Option<Loop> {
    let out = Command::new("losetup").args(["--show", "--read-only", "-f"]).arg(file).output().ok()?;
    let name = String::from_utf8(out.stdout).ok()?;
    Some(Loop(name.trim().into())).filter(|device| out.status.success() && device.0.starts_with("/dev/"))
}

impl Drop for Loop {
    fn drop(&mut self) {
        Command::new("losetup").args(["-d", &self.0]).status().ok();
    }
}
