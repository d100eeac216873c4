//! What a server on the network may send: NBD, SFTP, answers of the export protocol and of stores, and links.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let Some((kind, rest)) = bytes.split_first() else { return };
    match kind % 4 {
        0 => drop(reformis_wire::nbd::converse(rest)),
        1 => drop(reformis_wire::ssh::converse(rest)),
        2 => {
            reformis_wire::hosts::read_answers(rest);
            reformis_wire::clouds::read_cloud_answers(rest);
            reformis_wire::hosts::read_listing(rest);
            reformis_wire::stores::read_answer(rest);
        }
        _ => {
            let text = String::from_utf8_lossy(rest);
            let shown = reformis_wire::without_secrets(&text);
            if let Ok(link) = reformis_wire::Link::parse(&text) {
                assert!(!link.to_string().contains('?') || link.socket.is_some(), "a query is not shown: {shown}");
                assert_eq!(reformis_wire::Link::parse(&link.to_string()).map(|again| again.to_string()).as_ref(), Ok(&link.to_string()));
            }
        }
    }
});
