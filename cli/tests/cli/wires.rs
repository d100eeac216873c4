//! Targets over the network: hosts and links, as a person uses them. No secret is shown or kept.

use std::fs;

use reformis_standin::host::{Faults, Host, Options};

use crate::support::{AS_IT_IS, Place, TIDELOG};

const TOKEN: &str = "quite-a-secret-token";

/// A place with the demo's server, a host that has it twice, and settings for that.
fn harbour() -> (Place, Host, String) {
    let place = Place::new();
    for (name, power) in [("tidelog", "off"), ("buoycam", "running")] {
        let folder = place.path(&format!("host/{name}"));
        fs::create_dir_all(&folder).unwrap();
        let mut archive = tar::Archive::new(TIDELOG);
        archive.unpack(&folder).unwrap();
        fs::write(folder.join("power"), power).unwrap();
    }
    let host = Host::start(Options { token: TOKEN.into(), ..Options::new(place.path("host")) }).unwrap();
    place.write("token", format!("{TOKEN}\n").as_bytes());
    fs::set_permissions(place.path("token"), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    let at = host.link();
    let site =
        format!("[host.harbour]\nkind = \"export\"\nat = \"{at}\"\n[link.\"{at}\"]\ntoken = {{ file = \"token\" }}\n");
    place.write("reformis.toml", site.as_bytes());
    (place, host, at)
}

#[test]
fn a_machine_of_a_host_is_listed_drafted_carried_and_proved() {
    let (place, host, _) = harbour();
    let list = place.run(&["survey", "harbour:"]).expect(0).out;
    assert!(list.contains("buoycam") && list.contains("running") && list.contains("bios"), "{list}");
    assert!(place.run(&["hosts"]).expect(0).out.contains("harbour"));
    assert!(place.run(&["hosts", "harbour"]).expect(0).out.contains("1 of them running"));
    let json = place.run(&["survey", "harbour:", "--json"]).expect(0).json();
    assert_eq!(json["hosts"][0]["machines"][1]["name"], "tidelog");
    assert!(place.run(&["survey", "harbour:nix"]).expect(1).err.contains("no machine of this name"));

    place.run(&["draft", "harbour:tidelog", "--dest", "virtio-host", "--into", "landing", "--out", "t.toml"]).expect(0);
    let brief = fs::read_to_string(place.path("t.toml")).unwrap();
    assert!(brief.contains("source = \"harbour:tidelog\""), "{brief}");
    let mut faults = Faults::default();
    faults.set("cut=40000*3").unwrap();
    host.go_wrong(faults);
    let carried = place.run(&["carry", "t.toml", "--log", "carry.log", "--verbose"]).expect(0);
    let receipt = fs::read_to_string(place.path("landing/tidelog/receipt.json")).unwrap();
    assert!(receipt.contains("\"harbour:tidelog/tidelog-disk1.vmdk\"") && receipt.contains("\"tag\""), "{receipt}");
    let before = host.log().len();
    let proof = place.run(&["prove", "landing/tidelog/receipt.json", "--log", "prove.log", "--verbose"]).expect(0).out;
    assert!(proof.contains("The proof holds"), "{proof}");
    // One export serves all of it, and is given back.
    let asked = host.log()[before..].to_vec();
    let exports = asked.iter().filter(|line| line.starts_with("POST") && line.contains("/exports")).count();
    assert_eq!(exports, 1, "{asked:?}");
    assert!(asked.iter().any(|line| line.starts_with("DELETE")), "{asked:?}");
    let log = fs::read_to_string(place.path("prove.log")).unwrap();
    assert!(!log.contains("ok=false"), "{log}");
    // What the same export gives when it lies here.
    place.write("tidelog.ova", TIDELOG);
    let mut here = vec!["carry", "tidelog.ova", "--dest", "virtio-host", "--into", "here", "--json"];
    let mut there = vec!["carry", "harbour:tidelog", "--dest", "virtio-host", "--into", "there", "--json"];
    here.extend(AS_IT_IS);
    there.extend(AS_IT_IS);
    let digests = |words: &[&str]| {
        let json = place.run(words).expect(0).json();
        let disks = json["receipt"]["disks"].as_array().unwrap().clone();
        assert_eq!(disks.len(), 2);
        disks.iter().map(|disk| disk["content_digest"].to_string()).collect::<Vec<_>>()
    };
    assert_eq!(digests(&here), digests(&there));
    // Nothing shows the token, nor the links that were signed with it.
    let log = fs::read_to_string(place.path("carry.log")).unwrap();
    for text in [&receipt, &log, &carried.out, &carried.err, &brief, &list] {
        assert!(!text.contains(TOKEN) && !text.contains("sig="), "{text}");
    }
}

#[test]
fn a_machine_that_runs_is_a_blocker_or_is_read_and_that_is_said() {
    let (place, _host, _) = harbour();
    let words = ["carry", "harbour:buoycam", "--dest", "virtio-host", "--into", "landing"];
    let refused = place.run(&words).expect(3).err;
    assert!(refused.contains("[running]") && refused.contains("--while-running"), "{refused}");
    assert!(!place.path("landing").exists());
    let mut more = words.to_vec();
    more.push("--while-running");
    place.run(&more).expect(0);
    let receipt = fs::read_to_string(place.path("landing/tidelog/receipt.json")).unwrap();
    assert!(receipt.contains("read-while-running") && receipt.contains("frozen"), "{receipt}");
}

#[test]
fn a_link_is_surveyed_and_recast_and_its_signature_is_not_kept() {
    let (place, host, at) = harbour();
    let link = format!("{at}/plain/tidelog/tidelog-disk1.vmdk?sig=hidden-signature");
    let seen = place.run(&["survey", &link]).expect(0);
    assert!(seen.out.contains("vmdk/stream") && !seen.out.contains("hidden"), "{}", seen.out);
    let made = place.run(&["recast", &link, "disk.qcow2", "--receipt", "r.json", "--limit", "20MiB/s"]).expect(0);
    let receipt = fs::read_to_string(place.path("r.json")).unwrap();
    assert!(!made.out.contains("hidden") && !made.err.contains("hidden") && !receipt.contains("hidden"), "{receipt}");
    assert!(place.run(&["prove", "r.json"]).expect(0).out.contains("The proof holds"));
    assert!(host.log().iter().any(|line| line.contains("hidden-signature")));
    // A folder that the server lists, and a member of an archive.
    place.write("host/more/tidelog.ova", TIDELOG);
    let member = format!("{at}/plain/more/tidelog.ova/tidelog-disk2.vmdk");
    assert!(place.run(&["survey", &member]).expect(0).out.contains("vmdk/stream"));
    let folder = place.run(&["survey", &format!("{at}/plain/tidelog/")]).expect(0).out;
    assert!(folder.contains("OVF descriptor and its files"), "{folder}");
    let wrong = place.run(&["survey", "https://user:hidden@h/x"]).expect(1).err;
    assert!(wrong.contains("holds a password") && !wrong.contains("hidden"), "{wrong}");
    assert!(place.run(&["recast", &link, "x.qcow2", "--limit", "fast"]).expect(2).err.contains("no rate"));
}

#[test]
fn a_stand_in_host_makes_its_token_for_its_owner_alone() {
    let (place, _host, _) = harbour();
    let mut child = std::process::Command::new(crate::support::PROGRAM)
        .args(["standin", "host", "--data", "host", "--at", "127.0.0.1:0", "--token-file", "new-token"])
        .current_dir(place.path(""))
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let mut text = String::new();
    let mut lines = std::io::BufReader::new(child.stdout.take().unwrap());
    while !text.contains("token =") {
        assert!(std::io::BufRead::read_line(&mut lines, &mut text).unwrap() > 0, "{text}");
    }
    let settings = text.split_once("\n\n").and_then(|(_, rest)| rest.split_once("\n\n")).unwrap().1;
    place.write("new.toml", settings.as_bytes());
    let mode = std::os::unix::fs::MetadataExt::mode(&fs::metadata(place.path("new-token")).unwrap());
    let listed = place.run(&["survey", "harbour:", "--site", "new.toml"]);
    child.kill().unwrap();
    child.wait().unwrap();
    assert_eq!(mode & 0o777, 0o600);
    assert!(listed.expect(0).out.contains("tidelog"));
}

/// A domain of a libvirt host, and its end.
struct Domain(&'static str);

impl Domain {
    fn define(place: &Place, name: &'static str, format: &str, disk: &str) -> Self {
        let xml = format!(
            "<domain type='qemu'><name>{name}</name><memory unit='MiB'>64</memory><vcpu>1</vcpu>\
             <os><type arch='x86_64' machine='q35'>hvm</type></os><devices><disk type='file' device='disk'>\
             <driver name='qemu' type='{format}'/><source file='{}'/><target dev='vda' bus='virtio'/></disk></devices></domain>",
            place.path(disk).display()
        );
        let file = place.write(&format!("{name}.xml"), xml.as_bytes());
        virsh(&["define", &file.to_string_lossy()]);
        Self(name)
    }
}

impl Drop for Domain {
    fn drop(&mut self) {
        for words in [&["destroy", self.0][..], &["undefine", self.0]] {
            std::process::Command::new("virsh").arg("-q").args(words).output().unwrap();
        }
    }
}

fn virsh(words: &[&str]) -> String {
    let out = std::process::Command::new("virsh").args(["-q", "-c", "qemu:///system"]).args(words).output().unwrap();
    assert!(out.status.success(), "{words:?}: {}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8(out.stdout).unwrap()
}

#[test]
#[ignore = "needs a libvirt daemon (tools/libvirt-up)"]
fn machines_of_a_libvirt_host_are_read_while_they_are_off_and_while_they_run() {
    let place = Place::new();
    place.write("tidelog.ova", TIDELOG);
    place.run(&["recast", "tidelog.ova/tidelog-disk1.vmdk", "system.qcow2"]).expect(0);
    place.run(&["recast", "tidelog.ova/tidelog-disk2.vmdk", "tides.raw"]).expect(0);
    let _off = Domain::define(&place, "reformis-off", "raw", "tides.raw");
    let _running = Domain::define(&place, "reformis-running", "qcow2", "system.qcow2");
    virsh(&["start", "reformis-running"]);
    place.write("reformis.toml", b"[host.harbour]\nkind = \"libvirt\"\nuri = \"qemu:///system\"\n");
    let list = place.run(&["survey", "harbour:"]).expect(0).out;
    let row = |name: &str| list.lines().find(|line| line.contains(name)).unwrap_or_default().to_string();
    assert!(row("reformis-off").contains("off") && row("reformis-running").contains("running"), "{list}");
    assert!(row("reformis-running").contains("3 GiB"), "{list}");
    let mut words = vec!["carry", "harbour:reformis-off", "--dest", "virtio-host", "--into", "landing", "--json"];
    words.extend(AS_IT_IS);
    words.extend(["--accept", "no-system"]);
    let digest = |words: &[&str]| {
        let json = place.run(words).expect(0).json();
        json["receipt"]["disks"][0]["content_digest"].as_str().unwrap().to_string()
    };
    let here = |disk: &str| {
        let made = place.run(&["recast", disk, "again.vhdx", "--force", "--json"]).expect(0).json();
        made["recast"]["content_digest"].as_str().unwrap_or_else(|| panic!("{made}")).to_string()
    };
    assert_eq!(digest(&words), here("tides.raw"));
    words[1] = "harbour:reformis-running";
    assert!(place.run(&words).expect(3).err.contains("running"));
    words.push("--while-running");
    assert_eq!(digest(&words), here("tidelog.ova/tidelog-disk1.vmdk"), "it never booted far enough to write");
    let receipt = fs::read_to_string(place.path("landing/reformis-running/receipt.json")).unwrap();
    assert!(receipt.contains("as after a power cut"), "{receipt}");
    // The backup is over: another one can begin.
    assert!(virsh(&["domjobinfo", "reformis-running"]).contains("None"));
    assert!(place.run(&["survey", "harbour:reformis-none"]).expect(1).err.contains("no machine of this name"));
}
