//! A small machine, and the steps of its move.

use std::{
    collections::BTreeSet,
    fs,
    path::{Path, PathBuf},
    sync::{Arc, atomic::AtomicBool},
};

use reformis_disk::{budget::Budget, source::Links};
use reformis_machine::Site;
use reformis_move::{
    Context, Finding, Observer, Result, Step,
    brief::Brief,
    carry::{self, Landing},
    draft::{self, Draft},
    prepare::Order,
    propose::Choices,
};
use reformis_standin::content::Content;
use tempfile::TempDir;

/// Bytes of the machine's disk: whole GiB, as a cloud wants them.
pub(crate) const SIZE: u64 = 1 << 30;

struct Silent;

impl Observer for Silent {
    fn begin(&self, _: &Step, _: u64) {}
    fn advance(&self, _: u64) {}
    fn end(&self) {}
    fn tell(&self, _: &Finding) {}
}

/// Runs `work` as a program would that nobody stops.
pub(crate) fn run<T>(work: impl FnOnce(&Context<'_>) -> T) -> T {
    let cancel = Arc::new(AtomicBool::new(false));
    work(&Context {
        cancel: &cancel,
        observer: &Silent,
        budget: &Budget::whole(),
        wires: &reformis_wire::Wires::plain(),
        keys: &reformis_guest::Keys::default(),
    })
}

/// A folder with a machine in it.
pub(crate) struct Place {
    folder: TempDir,
    target: PathBuf,
    pub(crate) site: Site,
}

/// *berths*: BIOS, a disk on SATA, an adapter.
pub(crate) const BERTHS: &str = "<domain type='kvm'>
  <name>berths</name>
  <memory unit='MiB'>1024</memory>
  <vcpu>2</vcpu>
  <os><type arch='x86_64' machine='q35'>hvm</type></os>
  <clock offset='utc'/>
  <devices>
    <disk type='file' device='disk'><driver name='qemu' type='raw'/><source file='berths.img'/><target dev='sda' bus='sata'/><boot order='1'/></disk>
    <interface type='network'><mac address='02:5a:17:00:0b:01'/><source network='quay'/><model type='e1000e'/></interface>
  </devices>
</domain>
";

/// A disk that a BIOS starts, with one partition at 1 MiB, in which nothing is known.
pub(crate) fn disk() -> Vec<u8> {
    let mut bytes = vec![0; 3 << 20];
    bytes[..2].copy_from_slice(&[0xeb, 0xfe]);
    let entry = [0x80, 0, 0, 0, 0x83, 0, 0, 0, 0, 8, 0, 0, 0, 16, 0, 0];
    bytes[446..462].copy_from_slice(&entry);
    bytes[510..512].copy_from_slice(&[0x55, 0xaa]);
    Content::empty(1 << 20).with(0, 1 << 20, 5).read_at(0, &mut bytes[2 << 20..]);
    bytes
}

impl Place {
    /// An empty folder, in which `target` will be moved.
    pub(crate) fn of(target: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let target = folder.path().join(target);
        Self { folder, target, site: Site::default() }
    }

    /// With *berths* in it.
    pub(crate) fn berths() -> Self {
        Self::described(BERTHS, &disk())
    }

    /// With a machine of another description, and the start of its disk.
    pub(crate) fn described(xml: &str, disk: &[u8]) -> Self {
        let place = Self::of("berths.xml");
        place.write("berths.xml", xml.as_bytes());
        place.write("berths.img", disk);
        fs::File::options().write(true).open(place.path("berths.img")).unwrap().set_len(SIZE).unwrap();
        place
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(crate) fn write(&self, name: &str, bytes: &[u8]) {
        fs::write(self.path(name), bytes).unwrap();
    }

    pub(crate) fn order(&self, destination: &str, choices: &Choices) -> Order {
        Order::Target {
            path: self.target.clone(),
            machine: None,
            destination: destination.into(),
            into: self.path("landing"),
            choices: Box::new(choices.clone()),
        }
    }

    pub(crate) fn draft_as(&self, order: &Order) -> Result<Draft> {
        run(|context| draft::draft(order, &self.site, Links::OwnFolder, context))
    }

    pub(crate) fn draft(&self, destination: &str) -> Draft {
        self.draft_as(&self.order(destination, &Choices::default())).unwrap()
    }

    /// The draft of a brief that a person has changed.
    pub(crate) fn changed(&self, destination: &str, change: impl FnOnce(&mut Brief)) -> Draft {
        let mut brief = self.draft(destination).brief;
        change(&mut brief);
        self.draft_as(&Order::Brief(Box::new(brief), self.path(""))).unwrap()
    }

    pub(crate) fn carry(&self, destination: &str, accept: &[&str]) -> Result<Landing> {
        let options = carry::Options {
            order: self.order(destination, &Choices::default()),
            site: self.site.clone(),
            accept: accept.iter().map(ToString::to_string).collect(),
            force: false,
            links: Links::OwnFolder,
            resume: false,
            with: None,
            job: None,
            is_second: false,
            bitmap: None,
            off_since: None,
        };
        run(|context| carry::carry(&options, context))
    }
}

/// Codes of what a draft found.
pub(crate) fn codes(draft: &Draft) -> BTreeSet<&'static str> {
    draft.findings.iter().map(Finding::code).collect()
}

/// Names of the files in a folder, hidden ones too.
pub(crate) fn files(folder: &Path) -> BTreeSet<String> {
    let entries = fs::read_dir(folder).unwrap();
    entries.map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned()).collect()
}
