//! Every format's reader, chosen by the bytes themselves: no panic, no unbounded memory or time, and extents that add up.
#![no_main]

use std::sync::Arc;

use libfuzzer_sys::fuzz_target;
use reformis_disk::{ExtentKind, formats, source::MemoryStorage};

fuzz_target!(|bytes: &[u8]| {
    let Ok(image) = formats::open(Arc::new(MemoryStorage::new("fuzz", bytes.to_vec())), None) else { return };
    let disk = image.disk;
    let mut buf = vec![0xaa; 70_000];
    let mut at = 0;
    for _ in 0..200 {
        if at >= disk.size() {
            break;
        }
        let Ok(extent) = disk.extent_at(at) else { break };
        assert!(extent.start == at && extent.len > 0 && extent.end() <= disk.size());
        let len = extent.len.min(buf.len() as u64) as usize;
        if disk.read_at(at, &mut buf[..len]).is_ok() && extent.kind == ExtentKind::Zero {
            assert!(buf[..len].iter().all(|&byte| byte == 0));
        }
        at = extent.end();
    }
    let tail = disk.size().min(1000);
    let _ = disk.read_at(disk.size() - tail, &mut buf[..tail as usize]);
    assert!(disk.read_at(disk.size(), &mut buf[..1]).is_err());
});
