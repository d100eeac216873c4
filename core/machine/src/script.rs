//! The start script of a host with VMBus devices: PowerShell that makes the machine, stopped, from its landed disks.
//!
//! Kept to a subset: single-quoted strings, splatted parameters, no aliases; `docs/guide.md` shows one.

use crate::{
    device::{ControllerKind, RemovableKind},
    model::{Firmware, Machine},
};

/// What a script cannot make of `machine`: setting and value, as findings and receipts name them.
pub fn unsaid(machine: &Machine) -> Vec<crate::Lost> {
    let lost = |setting: &str, value: String| crate::Lost { setting: setting.into(), value };
    let mut all = Vec::new();
    all.extend(machine.uuid.map(|uuid| lost("uuid", uuid.to_string())));
    all.extend(machine.nvram.clone().map(|file| lost("nvram", file)));
    all.extend(machine.system.as_ref().map(|system| lost("system", system.to_string())));
    all.extend(machine.time_zone.clone().map(|zone| lost("time_zone", zone)));
    if machine.serial_ports > 2 {
        all.push(lost("serial_ports", machine.serial_ports.to_string()));
    }
    if machine.cpu.sockets > 1 && machine.cpu.cores > 1 {
        all.push(lost("cpu.sockets", machine.cpu.sockets.to_string()));
    }
    all
}

/// A string that is taken as it stands.
fn quoted(text: &str) -> String {
    // The typographic quotes end a string too.
    let mut inside = String::new();
    for c in text.chars() {
        match c {
            '\'' | '\u{2018}' | '\u{2019}' | '\u{201a}' | '\u{201b}' => inside.extend([c, c]),
            '\r' => {}
            '\n' => inside.push(' '),
            c if c.is_control() => {}
            c => inside.push(c),
        }
    }
    format!("'{inside}'")
}

/// The script for `machine`, whose disks' files lie beside it. It starts with a byte order mark, since older shells read
/// a file without one in their own code page.
pub fn write(machine: &Machine) -> String {
    let uefi = machine.firmware != Firmware::Bios;
    let mut out = Script::default();
    out.line("\u{feff}# Makes the machine from the disks beside this script, and does not start it.");
    out.line("# When a machine of that name is there already, nothing is changed.");
    out.line("[CmdletBinding()]");
    out.line("param()");
    out.line("$ErrorActionPreference = 'Stop'");
    out.line("Set-StrictMode -Version 2.0");
    out.line("");
    out.line(&format!("$name = {}", quoted(&machine.name)));
    out.line("if (Get-VM -Name $name -ErrorAction SilentlyContinue) {");
    out.line("    Write-Output \"A machine called '$name' is there already; nothing was changed.\"");
    out.line("    return");
    out.line("}");
    out.line("$disks = @(");
    for disk in &machine.disks {
        out.line(&format!("    (Join-Path $PSScriptRoot {})", quoted(disk.files.first().map_or("", String::as_str))));
    }
    out.line(")");
    out.line("foreach ($disk in $disks) {");
    out.line("    if (-not (Test-Path -LiteralPath $disk)) {");
    out.line("        throw \"The disk '$disk' is not there.\"");
    out.line("    }");
    out.line("}");
    out.line("");
    out.line(&format!("$generation = {}", if uefi { 2 } else { 1 }));
    out.line(&format!(
        "$vm = New-VM -Name $name -Generation $generation -MemoryStartupBytes {} -NoVHD",
        machine.memory
    ));
    out.line("try {");
    out.line("    # The adapter and the drive that every new machine has are not the machine's own.");
    out.line("    Get-VMNetworkAdapter -VM $vm | Remove-VMNetworkAdapter");
    out.line("    Get-VMDvdDrive -VM $vm | Remove-VMDvdDrive");
    out.line(&format!("    Set-VMProcessor -VM $vm -Count {}", machine.cpu.total()));
    out.line("    Set-VMMemory -VM $vm -DynamicMemoryEnabled $false");
    if let Some(words) = &machine.description {
        out.line(&format!("    Set-VM -VM $vm -Notes {}", quoted(words)));
    }
    let start = if machine.start_with_host { "Start" } else { "Nothing" };
    out.line(&format!("    Set-VM -VM $vm -AutomaticStartAction {start}"));
    disks(machine, &mut out);
    adapters(machine, &mut out);
    for port in 1..=machine.serial_ports.min(2) {
        out.line(&format!("    Set-VMComPort -VM $vm -Number {port} -Path \"\\\\.\\pipe\\$name-com{port}\""));
    }
    firmware(machine, &mut out);
    out.line("}");
    out.line("catch {");
    out.line("    # Not half a machine: the next run begins anew. The disks stay.");
    out.line("    Remove-VM -VM $vm -Force");
    out.line("    throw");
    out.line("}");
    out.line("Write-Output \"The machine '$name' is complete and stopped.\"");
    out.text
}

#[derive(Default)]
struct Script {
    text: String,
}

impl Script {
    fn line(&mut self, line: &str) {
        self.text += line;
        self.text += "\r\n";
    }
}

fn disks(machine: &Machine, out: &mut Script) {
    let kind = |controller| if controller == ControllerKind::Ide { "IDE" } else { "SCSI" };
    let scsi = machine.disks.iter().filter(|disk| disk.controller != ControllerKind::Ide);
    // A new machine has one SCSI controller and, in generation 1, both channels of IDE.
    for _ in 0..scsi.map(|disk| disk.bus).max().unwrap_or(0) {
        out.line("    Add-VMScsiController -VM $vm");
    }
    for (index, disk) in machine.disks.iter().enumerate() {
        out.line(&format!(
            "    Add-VMHardDiskDrive -VM $vm -ControllerType {} -ControllerNumber {} -ControllerLocation {} -Path $disks[{index}]",
            kind(disk.controller),
            disk.bus,
            disk.slot
        ));
    }
    for _ in machine.removable.iter().filter(|drive| drive.kind == RemovableKind::Cdrom) {
        out.line("    Add-VMDvdDrive -VM $vm");
    }
}

fn adapters(machine: &Machine, out: &mut Script) {
    for (index, adapter) in machine.adapters.iter().enumerate() {
        let name = quoted(&format!("adapter {}", index + 1));
        out.line(&format!("    $adapter = Add-VMNetworkAdapter -VM $vm -Name {name} -Passthru"));
        if let Some(mac) = &adapter.mac {
            let digits = quoted(&mac.digits());
            out.line(&format!("    Set-VMNetworkAdapter -VMNetworkAdapter $adapter -StaticMacAddress {digits}"));
        }
        if let Some(network) = adapter.network.as_deref().filter(|_| adapter.connected) {
            out.line(&format!("    $switch = {}", quoted(network)));
            out.line("    if (Get-VMSwitch -Name $switch -ErrorAction SilentlyContinue) {");
            out.line("        Connect-VMNetworkAdapter -VMNetworkAdapter $adapter -SwitchName $switch");
            out.line("    }");
            out.line("    else {");
            out.line("        Write-Warning \"There is no switch called '$switch': the adapter is left unconnected.\"");
            out.line("    }");
        }
    }
}

fn firmware(machine: &Machine, out: &mut Script) {
    let mut boots: Vec<_> = machine.disks.iter().filter(|disk| disk.boot.is_some()).collect();
    boots.sort_by_key(|disk| disk.boot);
    let Firmware::Uefi { secure_boot } = machine.firmware else {
        out.line("    Set-VMBios -VM $vm -StartupOrder @('IDE', 'CD', 'Floppy', 'LegacyNetworkAdapter')");
        return;
    };
    let drives: Vec<String> = boots
        .iter()
        .map(|disk| {
            format!(
                "(Get-VMHardDiskDrive -VM $vm -ControllerType SCSI -ControllerNumber {} -ControllerLocation {})",
                disk.bus, disk.slot
            )
        })
        .collect();
    if !drives.is_empty() {
        out.line(&format!("    Set-VMFirmware -VM $vm -BootOrder @({})", drives.join(", ")));
    }
    if secure_boot {
        // The template that trusts loaders of every maker, not of one system alone.
        let windows = machine.system.as_ref().is_some_and(crate::System::keeps_local_time);
        let template = if windows { "MicrosoftWindows" } else { "MicrosoftUEFICertificateAuthority" };
        out.line(&format!("    Set-VMFirmware -VM $vm -EnableSecureBoot On -SecureBootTemplate '{template}'"));
    } else {
        out.line("    Set-VMFirmware -VM $vm -EnableSecureBoot Off");
    }
    if machine.tpm.is_some() {
        out.line("    Set-VMKeyProtector -VM $vm -NewLocalKeyProtector");
        out.line("    Enable-VMTPM -VM $vm");
    }
}
