//! Archives of the "newc" kind, as early boot images have them, and the index of a few made-up kernel modules.

/// Kind and permissions of a folder.
pub const FOLDER: u32 = 0o040_755;
/// Kind and permissions of a file.
pub const FILE: u32 = 0o100_644;
/// Kind and permissions of a symbolic link.
pub const LINK: u32 = 0o120_777;

/// `modules.dep` of the made-up modules.
pub const MODULES_DEP: &[u8] = b"kernel/virtio.ko:\nkernel/virtio_pci.ko: kernel/virtio.ko\nkernel/virtio_scsi.ko: kernel/virtio.ko\nkernel/virtio_net.ko: kernel/virtio.ko\nkernel/hv_vmbus.ko:\nkernel/hv_storvsc.ko: kernel/hv_vmbus.ko\nkernel/hv_netvsc.ko: kernel/hv_vmbus.ko\nkernel/vmw_pvscsi.ko:\nkernel/virtio_blk.ko: kernel/virtio.ko\nkernel/nvme.ko:\nkernel/ena.ko:\nkernel/e1000.ko:\nkernel/ata_piix.ko:\nkernel/vmxnet3.ko:\nkernel/e1000e.ko:\nkernel/ahci.ko:\nkernel/sd_mod.ko:\n";

/// `modules.alias` of the made-up modules, with the names of real devices.
pub const MODULES_ALIAS: &[u8] = b"alias pci:v00001AF4d* virtio_pci\nalias virtio:d00000008v* virtio_scsi\nalias virtio:d00000001v* virtio_net\nalias acpi*:VMBUS:* hv_vmbus\nalias vmbus:d96361baa104294db60572e2ffb1dc7f hv_storvsc\nalias vmbus:635161f83edfc546913ff2d2f965ed0e hv_netvsc\nalias pci:v000015ADd000007C0sv* vmw_pvscsi\nalias pci:v000015ADd000007B0sv* vmxnet3\nalias pci:v00008086d000010D3sv* e1000e\nalias pci:v00008086d00002922sv* ahci\nalias virtio:d00000002v* virtio_blk\nalias pci:v*d*sv*sd*bc01sc08i02* nvme\nalias pci:v00001D0Fd0000EC20sv* ena\nalias pci:v00008086d0000100Esv* e1000\nalias pci:v00008086d00007111sv* ata_piix\nalias scsi:t-0x00* sd_mod\n";

/// The names of the made-up modules.
pub const MODULES: [&str; 17] = [
    "virtio",
    "virtio_pci",
    "virtio_scsi",
    "virtio_net",
    "hv_vmbus",
    "hv_storvsc",
    "hv_netvsc",
    "vmw_pvscsi",
    "vmxnet3",
    "virtio_blk",
    "nvme",
    "ena",
    "e1000",
    "ata_piix",
    "e1000e",
    "ahci",
    "sd_mod",
];

/// An archive of `entries`: name, kind with permissions, and bytes.
pub fn archive(entries: &[(&str, u32, &[u8])]) -> Vec<u8> {
    let mut bytes = Vec::new();
    for (name, mode, content) in entries.iter().chain(&[("TRAILER!!!", 0, &[][..])]) {
        let fields = [1, *mode, 0, 0, 1, 0, content.len() as u32, 0, 0, 0, 0, name.len() as u32 + 1, 0];
        bytes.extend(b"070701");
        fields.iter().for_each(|field| bytes.extend(format!("{field:08x}").bytes()));
        bytes.extend(name.bytes().chain([0]));
        bytes.resize(bytes.len().next_multiple_of(4), 0);
        bytes.extend(*content);
        bytes.resize(bytes.len().next_multiple_of(4), 0);
    }
    bytes
}
