//! The start line of a machine of the emulator, from its parts.

use std::path::{Path, PathBuf};

use anyhow::{Context as _, Result, bail};

/// A disk of a machine.
#[derive(Debug, Clone)]
pub struct Disk {
    /// Its file.
    pub file: PathBuf,
    /// The format's name, as the emulator has it.
    pub format: String,
    /// What it is attached to: `ahci`, `nvme`, `virtio-blk`, `virtio-scsi`, `pvscsi`.
    pub controller: String,
    /// Its place in the boot order, from 1.
    pub boot: Option<u64>,
}

/// A machine.
#[derive(Debug, Clone, Default)]
pub struct Parts {
    /// Its disks.
    pub disks: Vec<Disk>,
    /// Its adapters: model and hardware address.
    pub adapters: Vec<(String, String)>,
    /// Whether UEFI starts it.
    pub uefi: bool,
    /// Memory in MiB.
    pub memory: u64,
    /// Processors.
    pub processors: u64,
}

/// The arguments that start the emulator with `parts`. Firmware variables are written into `folder`.
///
/// # Errors
/// For a controller or an adapter that it does not have.
pub fn line(parts: &Parts, folder: &Path) -> Result<Vec<String>> {
    let mut line: Vec<String> =
        ["-machine", "q35", "-accel", "tcg,thread=multi", "-cpu", "qemu64", "-nodefaults", "-display", "none"]
            .map(String::from)
            .into();
    let mut add = |option: &str, value: String| line.extend([option.to_string(), value]);
    add("-smp", parts.processors.to_string());
    add("-m", parts.memory.to_string());
    if parts.uefi {
        let variables = folder.join("variables.fd");
        std::fs::copy("/usr/share/OVMF/OVMF_VARS_4M.fd", &variables).context("copying the firmware's variables")?;
        add("-drive", "if=pflash,unit=0,format=raw,readonly=on,file=/usr/share/OVMF/OVMF_CODE_4M.fd".into());
        add("-drive", format!("if=pflash,unit=1,format=raw,file={}", variables.display()));
    }
    let mut buses: Vec<&str> = Vec::new();
    for (number, disk) in parts.disks.iter().enumerate() {
        let file = disk.file.to_string_lossy().replace(',', ",,");
        let (format, node) = (&disk.format, format!("disk{number}"));
        add("-blockdev", format!("driver={format},node-name={node},file.driver=file,file.filename={file}"));
        let boot = disk.boot.map_or(String::new(), |boot| format!(",bootindex={boot}"));
        let device = match disk.controller.as_str() {
            "ahci" => format!("ide-hd,bus=ide.{number}"),
            "nvme" => format!("nvme,serial=tide{number}"),
            "virtio-blk" => "virtio-blk-pci".into(),
            scsi @ ("pvscsi" | "virtio-scsi") => {
                if !buses.contains(&scsi) {
                    buses.push(scsi);
                    add(
                        "-device",
                        format!("{},id={scsi}", if scsi == "pvscsi" { "pvscsi" } else { "virtio-scsi-pci" }),
                    );
                }
                format!("scsi-hd,bus={scsi}.0,scsi-id={number}")
            }
            other => bail!("no controller '{other}'"),
        };
        add("-device", format!("{device},drive={node}{boot}"));
    }
    for (number, (model, mac)) in parts.adapters.iter().enumerate() {
        let model = match model.as_str() {
            "virtio-net" => "virtio-net-pci",
            known @ ("e1000" | "e1000e" | "vmxnet3" | "rtl8139") => known,
            other => bail!("no adapter '{other}'"),
        };
        add("-netdev", format!("user,id=net{number}"));
        // A place of its own, so that its name does not depend on the disk's controller.
        let place = 9 + number;
        add("-device", format!("{model},netdev=net{number},mac={mac},bus=pcie.0,addr={place:#x}"));
    }
    Ok(line)
}
