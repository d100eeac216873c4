//! What servers say in sound conversations, as bytes: to be bent by tests and fuzzers.

/// A network block device of 4 KiB with the map `b0`: its map, and one read in two chunks.
pub fn nbd() -> Vec<u8> {
    let mut bytes = b"NBDMAGICIHAVEOPT\x00\x03".to_vec();
    let mut reply = |option: u32, kind: u32, data: &[u8]| {
        bytes.extend(0x0003_e889_0455_65a9u64.to_be_bytes());
        bytes.extend(option.to_be_bytes());
        bytes.extend(kind.to_be_bytes());
        bytes.extend((data.len() as u32).to_be_bytes());
        bytes.extend(data);
    };
    reply(8, 1, b"");
    reply(10, 4, b"\0\0\0\x01base:allocation");
    reply(10, 4, b"\0\0\0\x02qemu:dirty-bitmap:b0");
    reply(10, 1, b"");
    let mut info = vec![0, 0];
    info.extend(4096u64.to_be_bytes());
    info.extend([0, 1]);
    reply(7, 3, &info);
    reply(7, 1, b"");
    let mut chunk = |flags: u16, kind: u16, cookie: u64, data: &[u8]| {
        bytes.extend(0x668e_33efu32.to_be_bytes());
        bytes.extend(flags.to_be_bytes());
        bytes.extend(kind.to_be_bytes());
        bytes.extend(cookie.to_be_bytes());
        bytes.extend((data.len() as u32).to_be_bytes());
        bytes.extend(data);
    };
    chunk(1, 5, 1, b"\0\0\0\x02\0\0\x08\0\0\0\0\x01\0\0\x08\0\0\0\0\0");
    let mut data = 0u64.to_be_bytes().to_vec();
    data.extend([7; 4000]);
    chunk(0, 1, 2, &data);
    let mut hole = 4000u64.to_be_bytes().to_vec();
    hole.extend(96u32.to_be_bytes());
    chunk(1, 2, 2, &hole);
    bytes
}

/// An SFTP server with limits: the file `/disk`, of which 300,000 bytes are read from byte 5 on, a folder with two files, and where
/// a path leads.
pub fn sftp() -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut packet = |kind: u8, fields: &[&[u8]]| {
        let body = fields.concat();
        bytes.extend((body.len() as u32 + 1).to_be_bytes());
        bytes.push(kind);
        bytes.extend(body);
    };
    let number = |number: u32| number.to_be_bytes();
    let text = |text: &[u8]| [&(text.len() as u32).to_be_bytes()[..], text].concat();
    packet(2, &[&number(3), &text(b"limits@openssh.com"), &text(b"1")]);
    packet(
        201,
        &[
            &number(1),
            &262_144u64.to_be_bytes(),
            &261_120u64.to_be_bytes(),
            &261_120u64.to_be_bytes(),
            &64u64.to_be_bytes(),
        ],
    );
    packet(102, &[&number(2), &text(b"h1")]);
    // Out of order, and one of them short.
    packet(103, &[&number(4), &text(&[2; 38_880])]);
    packet(103, &[&number(3), &text(&[1; 200_000])]);
    packet(103, &[&number(5), &text(&[3; 61_120])]);
    packet(102, &[&number(6), &text(b"h2")]);
    let file = [&number(4)[..], &number(0o100_644)].concat();
    let name = |name: &[u8]| [text(name), text(b"-rw-r--r--"), file.clone()].concat();
    packet(104, &[&number(7), &number(2), &name(b"ledger.vmdk"), &name(b"tide.img")]);
    packet(101, &[&number(8), &number(1), &text(b"end"), &text(b"")]);
    packet(101, &[&number(9), &number(0), &text(b""), &text(b"")]);
    packet(104, &[&number(10), &number(1), &text(b"/x"), &text(b""), &number(0)]);
    bytes
}
