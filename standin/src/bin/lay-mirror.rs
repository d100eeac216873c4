//! Lays a software RAID 1 into the same part of two disks, filled with a file system.
//!
//!     lay-mirror LEFT RIGHT START SIZE NAME FILE
//!
//! START and SIZE are bytes of the member in each disk; FILE is what the array holds.

use std::{
    fs::File,
    io::{self, Seek, Write},
};

use anyhow::{Context, Result, bail};
use reformis_standin::raid::Array;

fn main() -> Result<()> {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [left, right, start, size, name, content] = &args[..] else {
        bail!("lay-mirror LEFT RIGHT START SIZE NAME FILE");
    };
    let (start, size) = (start.parse()?, size.parse()?);
    let array = Array::mirror(name);
    let room = array.size(&[size, size]) as u64;
    for (number, disk) in [left, right].into_iter().enumerate() {
        let mut disk = File::options().read(true).write(true).open(disk).context("opening a disk")?;
        let mut content = File::open(content).context("opening the content")?;
        if content.metadata()?.len() > room {
            bail!("the array holds {room} bytes, and the content has more");
        }
        disk.seek(io::SeekFrom::Start(start))?;
        disk.write_all(&array.front(size, number, 2))?;
        io::copy(&mut content, &mut disk)?;
    }
    Ok(())
}
