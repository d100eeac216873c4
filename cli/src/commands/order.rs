//! What draft and carry are told to move, and the site's own settings.

use std::path::{Path, PathBuf};

use anyhow::Result;
use clap::error::ErrorKind;
use reformis_move::{
    brief::{FirmwareKind, Mac, NewGuest},
    prepare::{self, Order},
    propose::Choices,
};

use reformis_wire::clouds::Then;

use crate::{
    args::{ChoiceArgs, FirmwareWord, GuestArgs, MacWord, MoveArgs, ThenWord},
    failure::wrong_usage,
};

/// The target or the brief that is meant. `into` is the folder for a target without one; none makes that wrong usage.
pub(super) fn order(args: &MoveArgs, into: Option<&str>) -> Result<Order> {
    let choices = choices(&args.choices)?;
    if let Some(brief) = brief(&args.target)? {
        if args.dest.is_some() || args.into.is_some() || args.machine.is_some() || choices.is_some() {
            wrong_usage(
                ErrorKind::ArgumentConflict,
                "the brief has all of that: change it there, or name the target instead of the brief",
            );
        }
        return Ok(brief);
    }
    let Some(destination) = args.dest.clone() else {
        wrong_usage(ErrorKind::MissingRequiredArgument, "a target needs --dest NAME; `reformis dests` lists them");
    };
    let Some(into) = args.into.clone().or_else(|| into.map(PathBuf::from)) else {
        wrong_usage(ErrorKind::MissingRequiredArgument, "a target needs --into FOLDER, in which the landing is made");
    };
    let choices = Box::new(choices.unwrap_or_default());
    Ok(Order::Target { path: args.target.clone(), machine: args.machine.clone(), destination, into, choices })
}

/// The brief at `path`, if one is there: by its content, whatever its name.
pub(super) fn brief(path: &Path) -> Result<Option<Order>> {
    let small = std::fs::metadata(path).is_ok_and(|metadata| metadata.is_file() && metadata.len() < 1 << 20);
    let is_brief = small && std::fs::read(path).is_ok_and(|bytes| reformis_move::brief::looks_like(&bytes));
    Ok(if is_brief { Some(prepare::read_brief(path)?) } else { None })
}

fn choices(args: &ChoiceArgs) -> Result<Option<Choices>> {
    let ChoiceArgs {
        name,
        memory,
        sockets,
        cores,
        firmware,
        network,
        mac,
        shape,
        machine_file,
        keep_unknown,
        store,
        cloud,
        then,
        user_data,
        network_config,
        guest,
    } = args;
    let absolute = |path: &PathBuf| Ok::<_, anyhow::Error>(std::path::absolute(path)?.to_string_lossy().into_owned());
    let kind = |word: &String| {
        reformis_machine::MachineFile::from_word(word).unwrap_or_else(|| {
            let words: Vec<_> = reformis_machine::MachineFile::ALL.iter().map(|kind| kind.word()).collect();
            let message = format!("'{word}' is not a kind of machine file; choose one of {}", words.join(", "));
            wrong_usage(ErrorKind::InvalidValue, &message)
        })
    };
    let memory = memory.map(|size| size.0);
    if memory.is_some_and(|bytes| !(1 << 20..=1 << 46).contains(&bytes)) {
        wrong_usage(ErrorKind::ValueValidation, "memory is from 1MiB to 64TiB");
    }
    let choices = Choices {
        name: name.clone(),
        memory,
        sockets: *sockets,
        cores: *cores,
        firmware: firmware.map(|word| if word == FirmwareWord::Bios { FirmwareKind::Bios } else { FirmwareKind::Uefi }),
        network: network
            .as_ref()
            .map(|name| name.parse().unwrap_or_else(|error: String| wrong_usage(ErrorKind::ValueValidation, &error))),
        mac: mac.map(|word| if word == MacWord::Keep { Mac::Keep } else { Mac::Fresh }),
        shape: *shape,
        machine_file: machine_file.as_ref().map(kind),
        guest: NewGuest {
            user_data: user_data.as_ref().map(absolute).transpose()?,
            network_config: network_config.as_ref().map(absolute).transpose()?,
            ..guest_wishes(guest)?
        },
        keep_unknown: *keep_unknown,
        store: store.clone(),
        cloud: cloud.clone(),
        then: then.map(|word| match word {
            ThenWord::Image => Then::Image,
            ThenWord::Stopped => Then::Stopped,
            ThenWord::Started => Then::Started,
        }),
    };
    Ok((choices != Choices::default()).then_some(choices))
}

/// What the person wants inside the guest; scripts by their whole paths.
pub(super) fn guest_wishes(args: &GuestArgs) -> Result<NewGuest> {
    if args.host_name.as_ref().is_some_and(|name| !reformis_move::brief::is_host_name(name)) {
        wrong_usage(ErrorKind::ValueValidation, "a host name has letters, digits, dots and dashes");
    }
    let absolute = |path: &PathBuf| Ok(std::path::absolute(path)?.to_string_lossy().into_owned());
    Ok(NewGuest {
        confined_to: None,
        leave_out: args.leave_out.clone(),
        drivers: args.drivers.iter().map(absolute).collect::<Result<_>>()?,
        first_boot: args.first_boot.iter().map(absolute).collect::<Result<_>>()?,
        // They land beside the disks, which a disk alone does not.
        user_data: None,
        network_config: None,
        host_name: args.host_name.clone(),
        new_machine_id: args.new_machine_id,
        new_ssh_keys: args.new_ssh_keys,
    })
}
