//! From the items of a hardware section to controllers, disks and adapters.

use super::item::{Item, resource};
use crate::device::{AdapterModel, ControllerKind};

/// What a controller item stands for; `None` for an item that is no disk controller.
pub(super) fn controller_kind(item: &Item<'_>) -> Option<ControllerKind> {
    let is = |word: &str| item.subtype.contains(word);
    Some(match item.kind {
        resource::IDE => ControllerKind::Ide,
        resource::SCSI if is("virtualscsi") || is("pvscsi") => ControllerKind::Pvscsi,
        resource::SCSI if is("lsilogicsas") || is("sas") => ControllerKind::LsiSas,
        resource::SCSI if is("lsilogic") || is("lsi") => ControllerKind::Lsi,
        resource::SCSI if is("buslogic") => ControllerKind::Buslogic,
        resource::SCSI if is("vmbus") || is("synthetic") => ControllerKind::VmbusScsi,
        resource::SCSI if is("virtio") => ControllerKind::VirtioScsi,
        resource::SCSI => ControllerKind::Unknown,
        resource::OTHER_STORAGE if is("ahci") || is("sata") => ControllerKind::Ahci,
        resource::OTHER_STORAGE if is("nvme") => ControllerKind::Nvme,
        resource::OTHER_STORAGE if is("virtio-scsi") || is("virtioscsi") => ControllerKind::VirtioScsi,
        resource::OTHER_STORAGE if is("virtio") => ControllerKind::VirtioBlk,
        resource::OTHER_STORAGE if is("usb") => ControllerKind::Usb,
        resource::OTHER_STORAGE => ControllerKind::Unknown,
        _ => return None,
    })
}

/// The adapter model that a `ResourceSubType` names.
pub(super) fn adapter_model(subtype: &str) -> AdapterModel {
    match subtype {
        "vmxnet3" => AdapterModel::Vmxnet3,
        "vmxnet2" | "vmxnet" => AdapterModel::Vmxnet2,
        "e1000e" => AdapterModel::E1000e,
        "pcnet32" | "pcnet" => AdapterModel::Pcnet,
        "rtl8139" => AdapterModel::Rtl8139,
        "ena" => AdapterModel::Ena,
        _ if subtype.contains("vmbus") || subtype.contains("synthetic") => AdapterModel::VmbusNet,
        _ if subtype.starts_with("e1000") => AdapterModel::E1000,
        _ if subtype.contains("virtio") => AdapterModel::VirtioNet,
        _ => AdapterModel::Unknown,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spellings_of_adapters() {
        assert_eq!(adapter_model("e1000-82545em"), AdapterModel::E1000);
        assert_eq!(adapter_model("virtionetwork"), AdapterModel::VirtioNet);
        assert_eq!(adapter_model("tulip"), AdapterModel::Unknown);
    }
}
