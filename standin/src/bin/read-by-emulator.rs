//! `read-by-emulator DRIVER IMAGE`: the guest-visible bytes of an image on stdout, as the machine emulator reads them.

use std::{
    io::{Write, stdout},
    path::Path,
};

use anyhow::{Context, Result};
use reformis_standin::emulator::Emulator;

fn main() -> Result<()> {
    let mut args = std::env::args().skip(1);
    let driver = args.next().context("no driver was named")?;
    let image = args.next().context("no image was named")?;
    let mut emulator = Emulator::start()?;
    let node = emulator.open(&driver, Path::new(&image), true)?;
    let mut client = emulator.export(&node, false)?;
    let mut buf = vec![0; 8 << 20];
    let mut at = 0;
    while at < client.size() {
        let len = (client.size() - at).min(buf.len() as u64) as usize;
        client.read_at(at, &mut buf[..len])?;
        stdout().write_all(&buf[..len])?;
        at += len as u64;
    }
    Ok(())
}
