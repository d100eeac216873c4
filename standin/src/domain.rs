//! A host that takes domain XML: its elements become the start line of the machine emulator, much as libvirt does it.

use std::{
    fs,
    path::{Path, PathBuf},
};

use anyhow::{Context, Result, bail};
use roxmltree::{Document, Node};

/// Where Debian's package ovmf keeps its firmware.
const OVMF: &str = "/usr/share/OVMF";

fn child<'a, 'i>(node: Node<'a, 'i>, name: &str) -> Option<Node<'a, 'i>> {
    node.children().find(|child| child.tag_name().namespace().is_none() && child.has_tag_name(name))
}

fn attribute<'a>(node: Node<'a, '_>, element: &str, name: &str) -> Option<&'a str> {
    child(node, element)?.attribute(name)
}

/// The arguments that start the emulator with the machine of `xml`. Firmware variables are
/// written into `folder`. A TPM is left out: it needs a program of its own.
///
/// # Errors
/// For what the domain has and no host of this kind does.
pub fn start_line(xml: &str, folder: &Path) -> Result<Vec<String>> {
    let document = Document::parse(xml)?;
    let domain = document.root_element();
    let os = child(domain, "os").context("no os")?;
    let mut line = Line { folder: folder.into(), ..Line::default() };
    let chipset = attribute(os, "type", "machine").context("no chipset")?;
    let secure =
        os.descendants().any(|n| n.attribute("name") == Some("secure-boot") && n.attribute("enabled") == Some("yes"));
    let smm = if secure { "on" } else { "off" };
    line.add("-machine", if chipset == "q35" { format!("q35,smm={smm}") } else { chipset.to_string() });
    line.add("-accel", "tcg,thread=multi");
    let kib: u64 = child(domain, "memory").and_then(|n| n.text()).context("no memory")?.parse()?;
    line.add("-m", format!("{}k", kib));
    let topology = child(domain, "cpu").and_then(|cpu| child(cpu, "topology")).context("no topology")?;
    let count = |name| topology.attribute(name).unwrap_or("1");
    let total = child(domain, "vcpu").and_then(|n| n.text()).context("no vcpu")?;
    line.add(
        "-smp",
        format!("{total},sockets={},cores={},threads={}", count("sockets"), count("cores"), count("threads")),
    );
    line.args.push("-nodefaults".into());
    line.add("-display", "none");
    let local = attribute(domain, "clock", "offset") != Some("utc");
    line.add("-rtc", if local { "base=localtime" } else { "base=utc" });
    if os.attribute("firmware") == Some("efi") {
        line.firmware(secure, folder)?;
    }
    let devices = child(domain, "devices").context("no devices")?;
    for node in devices.children().filter(Node::is_element) {
        line.device(node)?;
    }
    Ok(line.args)
}

#[derive(Default)]
struct Line {
    args: Vec<String>,
    /// Where the host keeps files of this machine.
    folder: PathBuf,
    disks: u32,
    adapters: u32,
    has_sata: bool,
    /// Places on the SATA controller that are taken.
    sata: Vec<u32>,
}

impl Line {
    fn add(&mut self, option: &str, value: impl Into<String>) {
        self.args.extend([option.to_string(), value.into()]);
    }

    fn firmware(&mut self, secure: bool, folder: &Path) -> Result<()> {
        let (code, variables) =
            if secure { ("OVMF_CODE_4M.ms.fd", "OVMF_VARS_4M.ms.fd") } else { ("OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd") };
        let own = folder.join("variables.fd");
        fs::copy(Path::new(OVMF).join(variables), &own)?;
        self.add("-drive", format!("if=pflash,unit=0,format=raw,readonly=on,file={OVMF}/{code}"));
        self.add("-drive", format!("if=pflash,unit=1,format=raw,file={}", own.display()));
        if secure {
            self.add("-global", "driver=cfi.pflash01,property=secure,value=on");
        }
        Ok(())
    }

    fn device(&mut self, node: Node<'_, '_>) -> Result<()> {
        match node.tag_name().name() {
            "controller" => match (node.attribute("type"), node.attribute("model")) {
                (Some("scsi"), Some("virtio-scsi")) => {
                    let index = node.attribute("index").unwrap_or("0");
                    self.add("-device", format!("virtio-scsi-pci,id=scsi{index}"));
                }
                other => bail!("a controller of another host: {other:?}"),
            },
            "disk" => self.disk(node)?,
            "interface" => {
                let (index, model) = (self.adapters, attribute(node, "model", "type").context("no model")?);
                self.adapters += 1;
                self.add("-netdev", format!("user,id=net{index}"));
                let model = if model == "virtio" { "virtio-net-pci" } else { model };
                let mac = attribute(node, "mac", "address").map_or(String::new(), |mac| format!(",mac={mac}"));
                self.add("-device", format!("{model},netdev=net{index}{mac}"));
            }
            // Where it leads is for whoever starts the machine.
            "serial" => {}
            "video" => self.add("-vga", "std"),
            "memballoon" => self.add("-device", "virtio-balloon-pci"),
            "rng" => self.add("-device", "virtio-rng-pci"),
            "channel" => self.add("-device", "virtio-serial-pci"),
            "input" => {
                self.add("-device", "qemu-xhci");
                self.add("-device", "usb-tablet");
            }
            "console" | "graphics" | "tpm" => {}
            other => bail!("an element of another host: {other}"),
        }
        Ok(())
    }

    /// A disk that is served over the network.
    fn network(&mut self, node: Node<'_, '_>) -> Result<String> {
        let source = node.children().find(|child| child.has_tag_name("source")).context("no source")?;
        if source.attribute("protocol") != Some("nbd") {
            bail!("a disk of another protocol");
        }
        let host = source.children().find(|child| child.has_tag_name("host")).context("no server")?;
        let place = match host.attribute("socket") {
            Some(path) => format!("file.server.type=unix,file.server.path={path}"),
            None => {
                let (name, port) =
                    (host.attribute("name").context("no name")?, host.attribute("port").context("no port")?);
                format!("file.server.type=inet,file.server.host={name},file.server.port={port}")
            }
        };
        let mut file =
            format!("file.driver=nbd,{place},file.export={}", source.attribute("name").context("no export")?);
        if source.attribute("tls") == Some("yes") {
            // Where a host keeps its certificate is a setting of the host.
            let folder = self.folder.join("tls");
            self.add(
                "-object",
                format!("tls-creds-x509,id=tls{},dir={},endpoint=client", self.disks, folder.display()),
            );
            file += &format!(",file.tls-creds=tls{}", self.disks);
        }
        Ok(file)
    }

    fn disk(&mut self, node: Node<'_, '_>) -> Result<()> {
        let id = format!("disk{}", self.disks);
        self.disks += 1;
        let format = attribute(node, "driver", "type").context("no format")?;
        let file = match attribute(node, "source", "file") {
            // A comma in a value is written twice.
            Some(file) => Some(format!("file.driver=file,file.filename={}", file.replace(',', ",,"))),
            None if node.attribute("type") == Some("network") => Some(self.network(node)?),
            None => None,
        };
        if let Some(file) = &file {
            self.add("-blockdev", format!("driver={format},node-name={id},discard=unmap,{file}"));
        }
        let number = |name| attribute(node, "address", name).and_then(|text| text.parse::<u32>().ok()).unwrap_or(0);
        let boot = attribute(node, "boot", "order").map_or(String::new(), |order| format!(",bootindex={order}"));
        let drive = if file.is_some() { format!(",drive={id}") } else { String::new() };
        let disc = node.attribute("device") == Some("cdrom");
        let device = match (attribute(node, "target", "bus").context("no bus")?, disc) {
            ("virtio", false) => format!("virtio-blk-pci{drive}{boot}"),
            ("scsi", false) => {
                let (target, unit) = (number("target"), number("unit"));
                format!("scsi-hd,bus=scsi{}.0,channel=0,scsi-id={target},lun={unit}{drive}{boot}", number("controller"))
            }
            ("sata", disc) => {
                if !self.has_sata {
                    self.add("-device", "ahci,id=sata");
                    self.has_sata = true;
                }
                let given = child(node, "address").map(|_| number("unit"));
                let unit = given.unwrap_or_else(|| (0..).find(|unit| !self.sata.contains(unit)).unwrap_or(0));
                self.sata.push(unit);
                format!("{},bus=sata.{unit}{drive}{boot}", if disc { "ide-cd" } else { "ide-hd" })
            }
            other => bail!("a disk of another host: {other:?}"),
        };
        self.add("-device", device);
        Ok(())
    }
}
