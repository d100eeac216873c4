//! Links, against the stand-in and what it does wrong.

use std::{path::Path, time::Duration};

use reformis_disk::container::Source;
use reformis_standin::{
    host::{Faults, Host, Options},
    servers::Proxy,
};
use reformis_wire::Wires;

use crate::common::{Pocket, Told, content, failure, open, storage, whole, wires};

const TOKEN: &str = "a-token-for-tests";
const KEYS: Pocket = Pocket(&[("TOKEN", TOKEN)]);

/// A host with one file, and the network that knows it.
struct Place {
    _data: tempfile::TempDir,
    host: Host,
    bytes: Vec<u8>,
}

impl Place {
    fn new(len: usize) -> Self {
        let data = tempfile::tempdir().unwrap();
        let bytes = content(len);
        std::fs::write(data.path().join("disk.img"), &bytes).unwrap();
        let host = Host::start(Options::new(data.path())).unwrap();
        Self { _data: data, host, bytes }
    }

    fn link(&self) -> String {
        format!("{}/plain/disk.img", self.host.link())
    }

    fn wires(&self) -> (Wires, Told) {
        wires(Path::new(""), &format!("[link.\"{}\"]\ntoken = {{ env = \"TOKEN\" }}\n", self.host.link()), KEYS)
    }

    fn go_wrong(&self, words: &[&str]) {
        let mut faults = Faults::default();
        words.iter().for_each(|word| faults.set(word).unwrap());
        self.host.go_wrong(faults);
    }
}

#[test]
fn a_file_is_read_by_ranges_and_each_byte_once() {
    let place = Place::new(9 << 20);
    let (wires, _) = place.wires();
    let storage = storage(&wires, &place.link());
    assert_eq!((storage.len(), storage.is_far(), storage.name()), (9 << 20, true, place.link().as_str()));
    assert!(whole(storage.as_ref()).unwrap() == place.bytes);
    let ranges = place.host.log().iter().filter(|line| line.contains("range:")).count();
    assert!(ranges < 16, "{ranges} requests");
    assert!(failure(open(&Wires::plain(), &place.link())).1.contains("401"));
    assert_eq!(failure(open(&wires, &format!("{}x", place.link()))).0, "not-there");
}

#[test]
fn an_empty_file_is_empty() {
    let place = Place::new(0);
    let storage = storage(&place.wires().0, &place.link());
    assert_eq!(storage.len(), 0);
    storage.check_unchanged().unwrap();
}

#[test]
fn without_ranges_it_is_a_stream_that_goes_on_where_it_broke() {
    for fault in ["no-ranges", "chunked", "gzip"] {
        let place = Place::new(3 << 20);
        let words: &[&str] = match fault {
            "no-ranges" => &["no-ranges", "cut=1000000*2"],
            "chunked" => &["no-ranges", "chunked", "cut=1000000*2"],
            _ => &["no-ranges", "gzip"],
        };
        place.go_wrong(words);
        let (wires, told) = place.wires();
        let Source::Stream(stream) = open(&wires, &place.link()).unwrap() else { panic!("{fault}: it has no ranges") };
        let mut bytes = Vec::new();
        // What was packed on its way is unpacked like any packed file.
        stream
            .visit(&mut std::io::empty(), &|_| (), false, &mut |stream, _| {
                stream.read_to_end(&mut bytes).map(drop).map_err(reformis_disk::Error::io("reading", fault, None))
            })
            .unwrap();
        assert!(bytes == place.bytes, "{fault}");
        // Opening it was cut too.
        assert_eq!(told.lock().unwrap().len(), usize::from(fault != "gzip"), "{fault}");
    }
}

#[test]
fn cuts_and_busy_hosts_are_tried_again() {
    let place = Place::new(6 << 20);
    let (wires, _) = place.wires();
    let storage = storage(&wires, &place.link());
    place.go_wrong(&["cut=300000*4", "busy=2*0"]);
    assert!(whole(storage.as_ref()).unwrap() == place.bytes);
}

/// A line that breaks at fifty places, and comes back: what is read is right.
#[test]
fn a_line_that_breaks_anywhere_does_no_harm() {
    let place = Place::new(5 << 20);
    let proxy = Proxy::start(place.host.address(), Duration::ZERO).unwrap();
    let text = format!(
        "[link.\"{}\"]\ntoken = {{ env = \"TOKEN\" }}\nconnect-to = \"{}\"\n",
        place.host.link(),
        proxy.address()
    );
    let mut cuts = 0;
    for round in 0..17u64 {
        let (wires, _) = wires(Path::new(""), &text, KEYS);
        let storage = storage(&wires, &place.link());
        proxy.cut_after(70_000 + round * 231_111, 3);
        assert!(whole(storage.as_ref()).unwrap() == place.bytes, "round {round}");
        cuts = proxy.cuts();
    }
    assert!(cuts >= 40, "{cuts} cuts were made");
}

#[test]
fn what_changes_meanwhile_is_never_mixed() {
    let place = Place::new(6 << 20);
    let storage = storage(&place.wires().0, &place.link());
    storage.read_at(0, &mut [0; 100]).unwrap();
    place.go_wrong(&["changed"]);
    assert_eq!(failure(storage.read_at(5 << 20, &mut [0; 100])).0, "source-changed");
    assert_eq!(failure(storage.check_unchanged()).0, "source-changed");
}

#[test]
fn a_part_that_was_not_asked_for_is_refused() {
    let place = Place::new(6 << 20);
    let storage = storage(&place.wires().0, &place.link());
    place.go_wrong(&["other-part"]);
    let (code, sentence) = failure(storage.read_at(1 << 20, &mut [0; 100]));
    assert_eq!(code, "protocol", "{sentence}");
    assert!(sentence.contains("was asked for bytes"), "{sentence}");
    place.go_wrong(&["gzip"]);
    assert_eq!(failure(storage.read_at(2 << 20, &mut [0; 100])).0, "protocol");
    place.go_wrong(&["endless-headers"]);
    assert_eq!(failure(storage.read_at(3 << 20, &mut [0; 100])).0, "protocol");
}

#[test]
fn no_secret_follows_to_another_origin_or_is_shown() {
    let (place, other) = (Place::new(1 << 20), Place::new(1 << 20));
    place.go_wrong(&[&format!("redirect={}", other.host.link())]);
    let text = format!(
        "[link.\"{}\"]\ntoken = {{ env = \"TOKEN\" }}\nheaders = {{ X-Export-Token = {{ env = \"MORE\" }} }}\n",
        place.host.link()
    );
    let keys = Pocket(&[("TOKEN", TOKEN), ("MORE", "another-secret")]);
    let (wires, _) = wires(Path::new(""), &text, keys);
    let (code, sentence) = failure(open(&wires, &format!("{}?sig=a-signature", place.link())));
    assert_eq!(code, "denied", "the other origin lets nobody in without a token");
    let there = other.host.log().join("\n");
    assert!(there.contains("/plain/disk.img") && !there.contains("secret") && !there.contains(TOKEN), "{there}");
    assert!(!there.contains("a-signature"), "{there}");
    let here = place.host.log().join("\n");
    assert!(here.contains("another-secret") && here.contains(TOKEN) && here.contains("a-signature"), "{here}");
    assert!(!sentence.contains("signature") && !sentence.contains("secret"), "{sentence}");
    let settings = format!("{:?}", reformis_wire::Settings::parse("site.toml", &text).unwrap());
    assert!(!settings.contains("another-secret"));
}
