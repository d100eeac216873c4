//! Writes real inputs into `seeds/`, from which the fuzzers start: small images by our writers, by hand, and, where it is
//! installed, by the machine emulator.

use std::{
    fs,
    io::{Cursor, Read, Write},
    path::Path,
    sync::Arc,
};

use reformis_disk::{
    Disk, Format,
    budget::Budget,
    copy::{output::Output, pipeline},
    disk::EmptyDisk,
    format::{self, NewImage, Squeeze},
    source::MemoryStorage,
};
use reformis_fuzz::join;
use reformis_guest::{Bench, Device, Tree};
use reformis_machine::{MachineFile, launch};
use reformis_standin::{
    content::Content,
    deltas::{Delta, datastore, vdi, vhd, vhdx},
    driver, early,
    emulator::Emulator,
    export, hives, lvm, lzx,
    ova::{self, ManifestKind},
    raid::{Array, Metadata},
    windows,
};
use serde_json::{Value, json};

/// Members of arrays, and headers of LUKS with the places of their keys, as the target `locked` takes them.
fn locked() -> Vec<(&'static str, Vec<u8>)> {
    let luks = |packed: &[u8], skip: usize, kind: u8| {
        let disk = zstd::decode_all(packed).expect("a fixture");
        let at = disk.windows(6).rposition(|bytes| bytes == b"LUKS\xba\xbe").expect("a header");
        [&[kind], &disk[at + skip..at + (168 << 10)]].concat()
    };
    let member = |level, metadata, chunk, layout, at: usize| {
        let array = Array { level, metadata, chunk, layout, ..Array::mirror("3") };
        let lens = [1 << 21, 1 << 21, 1 << 21, 1 << 21];
        let members = array.members(&vec![7; array.size(&lens)], &lens);
        members[0][at..at + 4096].to_vec()
    };
    let of = |count: u8, kind: u8, bytes: Vec<u8>| [vec![(count - 1) << 2 | kind], bytes].concat();
    let old = (2 << 20) - (64 << 10);
    vec![
        ("one", luks(include_bytes!("../../core/guest/tests/guest/locked/one.raw.zst"), 0, 2)),
        ("two", luks(include_bytes!("../../core/guest/tests/guest/locked/two.raw.zst"), 4096, 3)),
        ("mirror", of(4, 0, member(1, Metadata::Behind, 0, 0, 4096))),
        ("ten", of(4, 0, member(10, Metadata::Behind, 4096, 258, 4096))),
        ("stripes", of(4, 0, member(0, Metadata::Behind, 4096, 1, 4096))),
        ("old", of(4, 1, member(1, Metadata::Old, 0, 0, old))),
    ]
}

/// `disk` as the image describes, as bytes.
fn write(disk: &dyn Disk, image: &NewImage) -> Vec<u8> {
    let folder = tempfile::tempdir().expect("a temporary folder");
    let path = folder.path().join("seed");
    let output = Output::file(fs::File::create(&path).expect("a file"), "seed");
    let mut writer = format::create_in(output, image).expect("a writer");
    let watch = reformis_disk::copy::Watch { cancel: &|| false, progress: &|_| {}, workers: Some(1) };
    pipeline::copy(disk, writer.as_mut(), &watch).expect("a copy");
    fs::read(path).expect("the copy")
}

/// With the table at byte 512 and the blocks at 1024.
fn small_vdi(image: &[u8]) -> Vec<u8> {
    let mut small = image[..512].to_vec();
    small[0x154..0x158].copy_from_slice(&512u32.to_le_bytes());
    small[0x158..0x15c].copy_from_slice(&1024u32.to_le_bytes());
    small.resize(70_000, 0);
    small
}

/// With the log at 320 KiB, the metadata at 328 KiB and the table at 404 KiB; what the tables point at is not there.
fn small_vhdx(image: &[u8]) -> Vec<u8> {
    let (log, metadata, table) = (320u64 << 10, 328u64 << 10, 404u64 << 10);
    let mut small = image[..320 << 10].to_vec();
    small.resize(metadata as usize, 0);
    small.extend(&image[2 << 20..(2 << 20) + (76 << 10)]);
    small.extend(&image[3 << 20..(3 << 20) + 64]);
    for at in [192usize << 10, 256 << 10] {
        for (entry, place) in [(0, table), (1, metadata)] {
            let offset = at + 16 + entry * 32 + 16;
            small[offset..offset + 8].copy_from_slice(&place.to_le_bytes());
        }
    }
    for header in [64usize << 10, 128 << 10] {
        small[header + 68..header + 72].copy_from_slice(&8192u32.to_le_bytes());
        small[header + 72..header + 80].copy_from_slice(&log.to_le_bytes());
    }
    small
}

/// The same with an entry in its log: the fuzz target makes the checksums right.
fn with_log(small: &[u8]) -> Vec<u8> {
    let mut small = small.to_vec();
    let guid = [3; 16];
    for header in [64usize << 10, 128 << 10] {
        small[header + 48..header + 64].copy_from_slice(&guid);
    }
    let mut entry = b"loge\0\0\0\0".to_vec();
    entry.extend(8192u32.to_le_bytes());
    entry.extend(0u32.to_le_bytes());
    entry.extend(1u64.to_le_bytes());
    entry.extend([2, 0, 0, 0, 0, 0, 0, 0]);
    entry.extend(guid);
    entry.extend([0; 16]);
    for (signature, offset) in [(b"desc", 328u64 << 10), (b"zero", 404 << 10)] {
        entry.extend(signature);
        entry.extend([0; 4]);
        entry.extend(if signature == b"zero" { 0u64 } else { 0x6174_6164_6174_656d }.to_le_bytes());
        entry.extend(offset.to_le_bytes());
        entry.extend(1u64.to_le_bytes());
    }
    let at = 320 << 10;
    small[at..at + entry.len()].copy_from_slice(&entry);
    let metadata = small[(328 << 10)..(332 << 10)].to_vec();
    small[at + 4096..at + 8192].copy_from_slice(&metadata);
    small[at + 4096..at + 4100].copy_from_slice(b"data");
    small
}

/// What the emulator makes of these options, with `written` in it; and the file beside it.
fn emulated(options: &Value, beside: Option<&[u8]>, snapshot: bool) -> anyhow::Result<Vec<u8>> {
    let folder = tempfile::tempdir()?;
    let (path, other) = (folder.path().join("seed"), folder.path().join("beside"));
    let mut options = options.clone();
    let mut emulator = Emulator::start()?;
    if let Some(bytes) = beside {
        fs::write(&other, bytes)?;
        options["backing-file"] = json!("beside");
    }
    let size = 300_032;
    if options["data-file"] == true {
        fs::File::create(&other)?;
        let node = json!({ "driver": "file", "filename": other, "node-name": "data" });
        emulator.command("blockdev-add", &node)?;
        options["data-file"] = json!("data");
    }
    emulator.create("qcow2", &path, size, &options)?;
    let node = emulator.open("qcow2", &path, false)?;
    let mut client = emulator.export(&node, true)?;
    client.write_at(4096, &[7; 9000])?;
    if snapshot {
        emulator.command("blockdev-snapshot-internal-sync", &json!({ "device": node, "name": "before" }))?;
        client.write_at(8192, &[8; 9000])?;
    }
    drop(client);
    emulator.quit()?;
    let mut second = if other.exists() { fs::read(&other)? } else { Vec::new() };
    second.truncate(20_000);
    if snapshot {
        second.push(1);
    }
    Ok(join(&fs::read(&path)?, &second))
}

/// A disk with a master boot record and an EFI system partition.
fn with_esp() -> Vec<u8> {
    let esp: Vec<u8> = reformis_fuzz::changes::fat_volume(12, 100);
    let storage = Arc::new(MemoryStorage::new("esp", esp));
    let bench = Bench::new([format::open(storage, Some(Format::Raw)).expect("raw").disk], &Budget::whole());
    let device = Device::part(&bench, 0, 0, u64::MAX, "esp");
    let mut tree = Tree::of(&device, 0).expect("a sound volume").expect("FAT");
    tree.make_folders("/EFI/BOOT").and_then(|()| tree.write("/EFI/BOOT/BOOTX64.EFI", b"MZ")).expect("a loader");
    let mut esp = vec![0; 100 << 10];
    bench.take().remove(0).read_at(0, &mut esp).expect("memory");
    let mut disk = vec![0; 8 * 512];
    disk[446..462].copy_from_slice(&[0x80, 0, 0, 0, 0xef, 0, 0, 0, 8, 0, 0, 0, 200, 0, 0, 0]);
    disk[510..512].copy_from_slice(&[0x55, 0xaa]);
    disk.extend(esp);
    disk
}

/// Options of mke2fs for seeds; most are without checksums, which no mutation gets right.
const EXT: [&[&str]; 4] = [
    &["-t", "ext2", "-b", "1024"],
    &["-t", "ext4", "-b", "1024", "-O", "^metadata_csum,^has_journal"],
    &["-t", "ext4", "-b", "1024", "-O", "^metadata_csum,^has_journal,inline_data,^64bit"],
    &["-t", "ext4", "-b", "1024", "-O", "^has_journal"],
];

/// A small system in a small file system.
fn ext(options: &[&str], initrd: &[u8]) -> anyhow::Result<Vec<u8>> {
    let folder = tempfile::tempdir()?;
    let (root, image) = (folder.path().join("root"), folder.path().join("image"));
    let files: [(&str, &[u8]); 9] = [
        ("etc/os-release", b"ID=tidal\n"),
        ("etc/fstab", b"/dev/sda1 / ext4\n"),
        ("etc/network/interfaces", b"iface ens3 inet dhcp\n"),
        ("boot/grub/grub.cfg", b"linux /boot/vmlinuz-1 root=/dev/sda1\ninitrd /boot/initrd.img-1\n"),
        ("boot/vmlinuz-1", b"kernel"),
        ("boot/initrd.img-1", initrd),
        ("lib/modules/1/modules.dep", early::MODULES_DEP),
        ("lib/modules/1/modules.alias", early::MODULES_ALIAS),
        ("usr/large", &[7; 20_000]),
    ];
    for (path, bytes) in files {
        let place = root.join(path);
        fs::create_dir_all(place.parent().expect("a folder"))?;
        fs::write(place, bytes)?;
    }
    std::os::unix::fs::symlink("/usr/large", root.join("etc/link"))?;
    fs::File::create(&image)?.set_len(400 << 10)?;
    let mut command = std::process::Command::new("mke2fs");
    let output =
        command.args(["-q", "-F", "-N", "64", "-m", "0"]).args(options).arg("-d").args([&root, &image]).output()?;
    anyhow::ensure!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    Ok(fs::read(image)?)
}

/// The start of a physical volume: its metadata, and none of its data.
fn with_lvm() -> anyhow::Result<Vec<u8>> {
    let mut file = tempfile::NamedTempFile::new()?;
    let physical = [lvm::Physical { file: file.as_file(), start: 0, size: 64 << 20 }];
    let segments = vec![lvm::Segment { legs: vec![(0, 0)], extents: 4 }];
    lvm::lay("tides", &physical, &[lvm::Volume { name: "root", segments }])?;
    let mut bytes = Vec::new();
    file.reopen()?.read_to_end(&mut bytes)?;
    file.flush()?;
    Ok(bytes)
}

/// The driver medium as a cabinet.
fn cabinet() -> Vec<u8> {
    use std::io::Write;
    let files = driver::medium();
    let mut builder = cab::CabinetBuilder::new();
    let folder = builder.add_folder(cab::CompressionType::MsZip);
    for (path, _) in &files {
        folder.add_file(path.replace('/', "\\"));
    }
    let mut writer = builder.build(std::io::Cursor::new(Vec::new())).expect("a sound list");
    let mut all = files.iter();
    while let Some(mut file) = writer.next_file().expect("in memory") {
        let (_, bytes) = all.next().expect("as many");
        file.write_all(bytes).expect("in memory");
    }
    writer.finish().expect("in memory").into_inner()
}

/// One request of each kind to a lent disk.
fn requests() -> Vec<u8> {
    let mut bytes = Vec::new();
    for (flags, kind, offset, len) in [
        (0u16, 1u16, 5000u64, 9u32),
        (1, 1, 4096, 0),
        (0, 6, 100, 70_000),
        (2, 4, 0, 8192),
        (0, 3, 0, 0),
        (8, 7, 0, 200_000),
        (4, 0, 0, 9000),
        (0, 0, 0, 99_999),
        (0, 2, 0, 0),
    ] {
        bytes.extend(0x2560_9513_u32.to_be_bytes());
        bytes.extend(flags.to_be_bytes());
        bytes.extend(kind.to_be_bytes());
        bytes.extend([0; 8]);
        bytes.extend(offset.to_be_bytes());
        bytes.extend(len.to_be_bytes());
        bytes.extend(vec![b'x'; if kind == 1 { len as usize } else { 0 }]);
    }
    bytes
}

fn main() {
    let seeds = Path::new(env!("CARGO_MANIFEST_DIR")).join("seeds");
    let put = |target: &str, name: &str, bytes: &[u8]| {
        fs::create_dir_all(seeds.join(target)).expect("a folder for seeds");
        fs::write(seeds.join(target).join(name), bytes).expect("a seed");
    };
    let content = Content::empty(300_032).with(0, 1500, 1).with(140_000, 70_000, 2);
    let stream = export::stream_vmdk_of(&content, "seed.vmdk").expect("a stream in memory");
    put("image", "stream", &stream);
    put("vmdk", "stream", &join(&stream, &[]));
    let image = format::open(Arc::new(MemoryStorage::new("seed", stream.clone())), None).expect("a sound stream");
    let disk = image.disk.as_ref();
    let of = |shape: &str| NewImage::new(shape.parse().expect("a shape"), content.size);
    for shape in ["qcow2/thin", "raw/thin", "vmdk/thin", "vhd/full"] {
        put("image", &shape.replace('/', "-"), &write(disk, &of(shape)));
    }
    put("vmdk", "thin", &join(&write(disk, &of("vmdk/thin")), &[]));
    put("vhd", "full", &join(&write(disk, &of("vhd/full")), &[]));
    // Formats whose tables lie MiB apart: an empty disk, its tables moved together.
    let empty = EmptyDisk::new(content.size);
    let vhd_thin = write(&empty, &of("vhd/thin"));
    let vdi_thin = small_vdi(&write(&empty, &of("vdi/thin")));
    let vhdx_thin = small_vhdx(&write(&empty, &of("vhdx/thin")));
    for (name, bytes) in [("vhd", &vhd_thin), ("vdi", &vdi_thin), ("vhdx", &vhdx_thin)] {
        put("image", name, bytes);
        put(name, "thin", &join(bytes, &[]));
    }
    put("vhdx", "log", &join(&with_log(&vhdx_thin), &[]));

    for (kind, bytes) in [
        (0, windows::system([7; 16])),
        (1, windows::software()),
        (1, windows::boot_store([7; 16], [9; 16])),
        (2, windows::system([7; 16])[4096..].to_vec()),
        (10, windows::software()[4096..].to_vec()),
        (4, vec![0x03, 0xb0, 0x02, b'a', 0, 0xff]),
        (6, lzx::pack(&b"tide gauge ".repeat(200), lzx::Form::Image, lzx::Block::Aligned)),
        (6, lzx::pack(&b"tide gauge ".repeat(200), lzx::Form::Image, lzx::Block::Verbatim)),
        (3, hives::interrupted(&hives::empty(5), &windows::software(), true).1),
    ] {
        put("nt", &format!("seed-{kind}-{}", bytes.len()), &[&[kind], &bytes[..]].concat());
    }
    put("drivers", "iso", &[&[2][..], include_bytes!("../../demo/tide-drivers.iso")].concat());
    put("drivers", "cabinet", &[&[2][..], &cabinet()].concat());
    put("drivers", "program", &[&[1][..], &driver::program(0x8664, true)].concat());
    for (index, (_, text)) in driver::medium()
        .into_iter()
        .filter(|(path, _)| path.ends_with("amd64.inf") || path.ends_with("net.inf"))
        .enumerate()
    {
        put("drivers", &format!("inf-{index}"), &[&[0][..], &text].concat());
    }
    let small = Content::empty(8 * 4096).with(512, 9000, 1);
    let written = [512..9728];
    let delta = Delta { whole: &small, written: &written };
    put("vhd", "delta", &join(&vhd::image(&delta, vhd_thin[68..84].try_into().expect("16 bytes"), "p"), &vhd_thin));
    put("vhdx", "delta", &join(&small_vhdx(&vhdx::image(&delta, "0", "p")), &vhdx_thin));
    let id = |at: usize| vdi_thin[at..at + 16].try_into().expect("16 bytes");
    let ids = vdi::Ids { own: [1; 16], state: [2; 16], parent: id(392), parent_state: id(408) };
    put("vdi", "delta", &join(&vdi::image(&delta, &ids, None), &vdi_thin));
    put("vdi", "old", &join(&vdi::old_image(&delta), &[]));
    let text = |kind| datastore::descriptor(64, kind, "e", "ffffffff", "p");
    put("vmdk", "cowd", &join(text("VMFSSPARSE").as_bytes(), &datastore::cowd(&delta)));
    put("vmdk", "space", &join(text("SESPARSE").as_bytes(), &datastore::space_efficient(&delta, 5, 6)));
    put("vmdk", "flat", &join(text("FLAT").as_bytes(), &[5; 64 * 512]));
    let over = datastore::descriptor(64, "FLAT", "e", "12345678", "p");
    put("vmdk", "over", &join(over.as_bytes(), text("ZERO").as_bytes()));

    for squeeze in [None, Some(Squeeze::Deflate), Some(Squeeze::Zstd)] {
        let image = NewImage { squeeze, cluster: Some(4096), ..of("qcow2/thin") };
        put("qcow2", &format!("{squeeze:?}"), &join(&write(disk, &image), &[]));
    }
    let kinds = [
        ("divided", json!({ "version": "v3", "extended-l2": true, "cluster-size": 16384 }), None, false),
        ("external", json!({ "version": "v3", "data-file": true, "cluster-size": 4096 }), None, false),
        ("snapshot", json!({ "version": "v3", "cluster-size": 512 }), None, true),
        ("backed", json!({ "version": "v2", "backing-fmt": "raw", "cluster-size": 4096 }), Some(&[9; 9000][..]), false),
    ];
    for (name, options, beside, snapshot) in kinds {
        match emulated(&options, beside, snapshot) {
            Ok(bytes) => put("qcow2", name, &bytes),
            Err(error) => eprintln!("no seed '{name}' by the emulator: {error:#}"),
        }
    }

    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../core/machine/tests/machine/samples");
    for entry in fs::read_dir(folder).expect("samples").flatten() {
        let path = entry.path();
        let target = match path.extension().and_then(|e| e.to_str()) {
            Some("xml") => "domain",
            Some(ending @ ("ovf" | "vmx" | "vbox")) => ending,
            _ => continue,
        };
        let bytes = fs::read(&path).expect("a sample");
        put(target, &entry.file_name().to_string_lossy(), &bytes);
        let Ok(document) = reformis_machine::read(MachineFile::Vmx, &bytes, "seed") else { continue };
        put("launch", "machine.json", launch::write(&document.machines[0], &[], "nvme-cloud", None).as_bytes());
    }
    put("brief", "brief.toml", include_bytes!("brief.toml"));
    put("brief", "site.toml", b"[networks]\n'a' = 'b'\n[destinations.x]\nlike = 'virtio-host'\nsummary = 'y'\n");
    put("fleet", "night.toml", include_bytes!("night.toml"));
    for (name, seed) in locked() {
        put("locked", name, &seed);
    }
    put("guest", "esp", &with_esp());
    let archive = early::archive(&[("lib", early::LINK, b"usr/lib"), ("usr/lib/modules", early::FOLDER, b"")]);
    let network = "network:\n  ethernets:\n    shore: {match: {macaddress: '02:5a:17:00:00:01'}, set-name: ens5}\n    ens6: &a [*a]\n";
    let kind = |kind: u8, bytes: &[u8]| [&[kind][..], bytes].concat();
    put("wires", "nbd", &kind(0, &reformis_standin::servers::scripts::nbd()));
    put("wires", "sftp", &kind(1, &reformis_standin::servers::scripts::sftp()));
    put(
        "wires",
        "export",
        &kind(2, br#"{"export":"e-1","state":"ready","files":[{"name":"a","link":"/v1/x?sig=1"}]}"#),
    );
    put("wires", "index", &kind(2, b"<html><a href=\"a%20b.vmdk\">a</a><a href='sub/'>"));
    put("wires", "link", &kind(3, b"nbd+unix:///disk?socket=/run/a%20b.sock"));
    put("lent", "options", &kind(0, b"\0\0\0\x01IHAVEOPT\0\0\0\x03\0\0\0\0IHAVEOPT\0\0\0\x01\0\0\0\x04disk"));
    put("lent", "requests", &kind(1, &requests()));
    put("lent", "map", &kind(2, &[0b1110_0100; 40]));
    put("lent", "header", &kind(3, b"reformis scratch"));
    put("texts", "netplan", network.as_bytes());
    put("texts", "interfaces", b"auto ens3\niface bond0 inet manual\n bond-slaves ens3 ens4\niface ens3.7 inet dhcp\n");
    put(
        "texts",
        "sections",
        b"[Match]\nMACAddress=02:5A:17:00:00:01\nName=ens3 en*\n[connection]\ninterface-name=ens4\n",
    );
    put("texts", "ifcfg", b"DEVICE=\"ens3\"\nHWADDR=02:5A:17:00:00:02\nTYPE=Ethernet\n");
    put("texts", "fstab", b"# disks\n/dev/sda2\t/ ext4 defaults 0 1\nUUID=1 /tide\\040log xfs nofail 0 2\n");
    put("early", "plain", &archive);
    put("early", "zstd", &zstd::encode_all(&archive[..], 1).expect("an image in memory"));
    let indexes = [early::MODULES_DEP, early::MODULES_ALIAS, b"softdep virtio_scsi pre: virtio", b"kernel/sd_mod.ko"];
    put("early", "modules", &indexes.join(&0));
    for (number, options) in EXT.iter().enumerate() {
        match ext(options, &archive) {
            Ok(bytes) => put("guest", &format!("ext-{number}"), &bytes),
            Err(error) => eprintln!("no seed of a file system: {error:#}"),
        }
    }
    for (target, volumes) in [("ext", 5), ("fat", 3)] {
        for volume in 0..volumes {
            // A folder, a file in it, a longer one beside it, more of the first, and all gone again.
            let steps = [3, 0, 0, 0, 1, 0, 2, 40, 2, 7, 1, 0, 4, 200, 3, 9, 2, 1, 0, 2, 30, 2, 1, 4, 0, 0];
            put(target, &format!("sound-{volume}"), &[&[volume, 0], &steps[..]].concat());
            put(target, &format!("damaged-{volume}"), &[&[volume, 129, 17, 4, 3], &steps[..]].concat());
        }
    }
    put("receipt", "receipt.json", include_bytes!("receipt.json"));
    put("guest", "lvm", &with_lvm().expect("a physical volume in memory"));
    let sample = include_str!("../../core/machine/tests/machine/samples/buoycam-efi.ovf");
    let files: [(&str, &[u8]); 2] = [("a.ovf", sample.as_bytes()), ("a", &[7; 700])];
    let mut last = Vec::new();
    for (index, kind) in [ManifestKind::Sha1, ManifestKind::Sha256, ManifestKind::Sha512].into_iter().enumerate() {
        let manifest = ova::manifest(kind, &files);
        put("manifest", &format!("{index}.mf"), manifest.as_bytes());
        let mut archive = Vec::new();
        ova::archive(&mut archive, &[files[0], ("a.mf", manifest.as_bytes()), files[1]]).expect("an archive in memory");
        put("archive", &format!("{index}.ova"), &archive);
        last = archive;
    }
    for (name, method) in [("stored", zip::CompressionMethod::Stored), ("deflated", zip::CompressionMethod::Deflated)] {
        let mut writer = zip::ZipWriter::new(Cursor::new(Vec::new()));
        let options = zip::write::SimpleFileOptions::default().compression_method(method);
        for (name, bytes) in files {
            writer.start_file(name, options).expect("a member in memory");
            writer.write_all(bytes).expect("a member in memory");
        }
        let bytes = writer.finish().expect("an archive in memory").into_inner();
        put("archive", name, &bytes);
        put("stream", name, &bytes);
    }
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gzip.write_all(&last).expect("a stream in memory");
    put("stream", "tar.gz", &gzip.finish().expect("a stream in memory"));
    put("stream", "zst", &zstd::encode_all(&last[..], 1).expect("a stream in memory"));
}
