//! Files that are small for what they make a reader keep: a clear error within the budget, in a process that is given little
//! more than it.

use std::{fs, io::Write, os::unix::fs::FileExt, process::Command};

use crate::support::{PROGRAM, Place, Ran, TIDELOG};

/// KiB of address space for the program and the 128 MiB of its budget.
const SPACE: u32 = 200_000;

fn run(place: &Place, args: &[&str]) -> Ran {
    let script = format!("ulimit -v {SPACE}; exec \"$@\"");
    let mut command = Command::new("sh");
    command.args(["-c", &script, "sh", PROGRAM]).args(args).current_dir(place.path(""));
    // A heap for each thread would take address space that nothing is kept in.
    Ran::from(command.env("MALLOC_ARENA_MAX", "1").output().unwrap())
}

/// A qcow2 image (version 2) of 128 GiB in clusters of 512 bytes: a file of 32 MiB and a bit, nearly all of it a hole, whose L1
/// table is 32 MiB of nothing.
fn wide(place: &Place, name: &str, backing: Option<&str>) {
    let mut header = Vec::new();
    header.extend(b"QFI\xfb\0\0\0\x02");
    let backing = backing.unwrap_or_default();
    header.extend(if backing.is_empty() { 0u64 } else { 80 }.to_be_bytes());
    header.extend((backing.len() as u32).to_be_bytes());
    header.extend(9u32.to_be_bytes());
    header.extend((128u64 << 30).to_be_bytes());
    header.extend(0u32.to_be_bytes());
    header.extend((4u32 << 20).to_be_bytes());
    header.extend([1024u64, 512].map(u64::to_be_bytes).concat());
    header.extend([1u32, 0].map(u32::to_be_bytes).concat());
    header.extend(0u64.to_be_bytes());
    header.resize(80, 0);
    header.extend(backing.bytes());
    let file = fs::File::create(place.path(name)).unwrap();
    file.set_len((32 << 20) + 1024).unwrap();
    file.write_all_at(&header, 0).unwrap();
}

#[test]
fn what_would_take_more_than_the_budget_is_refused_before_it_does() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    run(&place, &["draft", "tidelog.ova", "--dest", "virtio-host"]).expect(0);

    let over = "more than 128 MiB of memory";
    let many = "x".repeat(15 << 20);
    place.write("attributes.xml", format!("<domain>{}</domain>", many.replace('x', "=")).as_bytes());
    place.write("elements.xml", format!("<domain><!--{}--></domain>", many.replace('x', "<")).as_bytes());
    place.write("lines.vmx", format!(".encoding = \"UTF-8\"\n{}", many.replace('x', "\n")).as_bytes());
    let squared: String = (0..200_000).map(|number| format!(" a{number}=''")).collect();
    place.write("squared.xml", format!("<domain{squared}/>").as_bytes());
    let list = vec!["0"; 5 << 20].join(",");
    place
        .write("list.json", format!("{{\"schema\": 1, \"kind\": \"machine-launch\", \"disks\": [{list}]}}").as_bytes());
    let names = vec!["\"\""; 10 << 20].join(",");
    place.write(
        "receipt.json",
        format!(
            "{{\"schema\":1,\"tool\":\"x\",\"started\":\"2026-01-01T00:00:00Z\",\"finished\":\"2026-01-01T00:00:00Z\",\
             \"target\":\"x\",\"destination\":\"\",\"sources\":[],\"findings\":[],\"disks\":[{{\"id\":\"a\",\"source\":[{names}]}}]}}"
        )
        .as_bytes(),
    );
    let mut zip = zip::ZipWriter::new(fs::File::create(place.path("many.zip")).unwrap());
    let stored = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    for number in 0..250_000 {
        zip.start_file(format!("{number:012}"), stored).unwrap();
    }
    zip.finish().unwrap().flush().unwrap();
    // Each of a chain is well below the budget by itself.
    wide(&place, "0.qcow2", None);
    for number in 1..6 {
        wide(&place, &format!("{number}.qcow2"), Some(&format!("{}.qcow2", number - 1)));
    }
    run(&place, &["survey", "2.qcow2"]).expect(0);
    for (args, said) in [
        (&["survey", "attributes.xml"][..], over),
        (&["survey", "elements.xml"], over),
        (&["survey", "lines.vmx"], "lines"),
        (&["survey", "squared.xml"], "more than 1000 attributes"),
        (&["survey", "list.json"], over),
        (&["prove", "receipt.json"], over),
        (&["survey", "many.zip"], over),
        (&["survey", "5.qcow2"], over),
        (&["recast", "5.qcow2", "out.raw"], over),
    ] {
        let ran = run(&place, args).expect(1);
        assert!(ran.err.contains(said), "{args:?}: {}", ran.err);
    }
    assert!(!place.path("out.raw").exists());
    // For scripts, the same has a code of its own.
    let ran = run(&place, &["survey", "5.qcow2", "--json"]).expect(1);
    assert!(ran.err.contains("\"too-much-memory\""), "{}", ran.err);
}
