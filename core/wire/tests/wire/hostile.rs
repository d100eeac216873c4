//! Servers that mean harm: scripted bytes instead of a protocol.

use std::{
    io::{Read, Write},
    net::TcpListener,
    thread,
    time::Duration,
};

use proptest::prelude::*;
use reformis_standin::servers::scripts;
use reformis_wire::Wires;

use crate::common::{Pocket, failure, open, wires};

/// A server that says `bytes` to whoever comes, reads what it is told, and says no more.
fn says(bytes: Vec<u8>) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            stream.set_read_timeout(Some(Duration::from_millis(300))).unwrap();
            stream.write_all(&bytes).ok();
            let _ = stream.read(&mut [0; 4096]).unwrap_or(0);
        }
    });
    port
}

#[test]
fn http_that_is_none_ends_with_a_sentence() {
    let long = format!("HTTP/1.1 206 x\r\n{}\r\n", "X: y\r\n".repeat(100_000));
    for (answer, code) in [
        ("HTTP/1.1 206 x\r\nContent-Length: 5\r\n\r\nhello", "protocol"),
        ("HTTP/1.1 206 x\r\nContent-Range: bytes 5-9/10\r\nContent-Length: 5\r\n\r\nhello", "protocol"),
        (
            "HTTP/1.1 206 x\r\nContent-Range: bytes 0-4/18446744073709551616\r\nContent-Length: 5\r\n\r\nhello",
            "protocol",
        ),
        (
            "HTTP/1.1 206 x\r\nContent-Encoding: gzip\r\nContent-Range: bytes 0-4/5\r\nContent-Length: 5\r\n\r\nhello",
            "protocol",
        ),
        ("HTTP/1.1 302 x\r\nLocation: /round\r\nContent-Length: 0\r\n\r\n", "protocol"),
        ("HTTP/1.1 302 x\r\nLocation: file:///etc/passwd\r\nContent-Length: 0\r\n\r\n", "protocol"),
        ("HTTP/1.1 302 x\r\nContent-Length: 0\r\n\r\n", "protocol"),
        ("HTTP/1.1 206 x\r\nContent-Range: bytes 0-4/5\r\nContent-Length: 9\r\n\r\nhellohell", "protocol"),
        ("HTTP/1.1 410 x\r\nContent-Length: 0\r\n\r\n", "link-expired"),
        (long.as_str(), "protocol"),
    ] {
        let port = says(answer.into());
        let (found, sentence) = failure(open(&Wires::plain(), &format!("http://127.0.0.1:{port}/x")));
        assert_eq!(found, code, "{:?}: {sentence}", answer.chars().take(60).collect::<String>());
    }
}

#[test]
fn nbd_that_is_none_ends_with_a_sentence() {
    for (answer, part) in [
        (&b"SSH-2.0-x\r\n______________"[..], "no NBD server"),
        (b"NBDMAGIC\x00\x00\x42\x02\x81\x86\x12\x53________________________", "old form"),
        (b"NBDMAGICIHAVEOPT\x00\x00", "without replies"),
        (
            b"NBDMAGICIHAVEOPT\x00\x03\x00\x03\xe8\x89\x04\x55\x65\xa9\x00\x00\x00\x63\x00\x00\x00\x01\x00\x00\x00\x00",
            "another option",
        ),
        (
            b"NBDMAGICIHAVEOPT\x00\x03\x00\x03\xe8\x89\x04\x55\x65\xa9\x00\x00\x00\x08\x00\x00\x00\x01\xff\xff\xff\xff",
            "longer than any",
        ),
    ] {
        let port = says(answer.to_vec());
        let (code, sentence) = failure(open(&Wires::plain(), &format!("nbd://127.0.0.1:{port}/x")));
        assert!(sentence.contains(part), "{code}: {sentence}");
    }
}

#[test]
fn a_sound_conversation_is_understood_and_each_lie_in_it_is_refused() {
    let sound = scripts::nbd();
    assert_eq!(reformis_wire::nbd::converse(&sound).unwrap(), 3, "two runs and one read");
    let read = sound.len() - 20 - 12 - 20 - 8 - 4000;
    for (at, byte, what) in [
        (read + 15, 3, "a request that was never made"),
        (read + 27, 1, "bytes that overlap the hole"),
        (sound.len() - 12 + 7, 0xff, "a hole outside"),
        (sound.len() - 1, 95, "a byte that is missing"),
        (sound.len() - 32 + 5, 0, "no end"),
    ] {
        let mut bent = sound.clone();
        assert_ne!(bent[at], byte);
        bent[at] = byte;
        assert_eq!(reformis_wire::nbd::converse(&bent).unwrap_or(0), 2, "{what}: only the map is taken");
    }
}

proptest! {
    /// However a conversation is bent or cut, it ends, and nothing breaks.
    #[test]
    fn a_bent_conversation_ends(changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 0..6), cut in any::<prop::sample::Index>()) {
        let mut bytes = scripts::nbd();
        for (at, byte) in changes {
            let at = at.index(bytes.len());
            bytes[at] = byte;
        }
        bytes.truncate(cut.index(bytes.len()) + 1);
        let _ = reformis_wire::nbd::converse(&bytes);
    }
}

#[test]
fn a_sound_conversation_in_sftp_is_understood_and_each_lie_in_it_is_refused() {
    let sound = scripts::sftp();
    assert_eq!(reformis_wire::ssh::converse(&sound).unwrap(), 4, "one read, two names and a path");
    let place = |part: &[u8]| sound.windows(part.len()).position(|window| window == part).unwrap();
    for (at, byte, most, what) in [
        (place(b"tide.img"), b'/', 3, "a name that leads out"),
        (4, 99, 0, "a kind that there is not"),
        (0, 0xff, 0, "a packet without end"),
        (place(b"limits@"), b'x', 4, "no limits are told"),
    ] {
        let mut bent = sound.clone();
        bent[at] = byte;
        let seen = reformis_wire::ssh::converse(&bent).unwrap_or(0);
        assert!(seen <= most, "{what}: {seen}");
    }
}

/// What a store says is read as little texts, and no further; none of it reaches a terminal as it is.
#[test]
fn stores_that_mean_harm_end_with_a_sentence() {
    let answer =
        |status: &str, body: &str| format!("HTTP/1.1 {status} x\r\nContent-Length: {}\r\n\r\n{body}", body.len());
    let long = format!("<L>{}</L>", "<Upload><Key>k</Key><UploadId>u</UploadId></Upload>".repeat(60_000));
    for (answer, part) in [
        (answer("200", "<html><body>welcome"), "no XML that is read"),
        (answer("200", "<html><body>welcome</body></html>"), "is it an object store?"),
        (answer("200", ""), "no XML that is read"),
        (answer("200", "<Error><Code>NoSuchBucket</Code></Error>"), "there is no bucket 'bucket'"),
        (answer("200", "<!DOCTYPE a [<!ENTITY b \"&c;&c;\">]><L>&b;</L>"), "no XML that is read"),
        (answer("200", &long), "no XML that is read"),
        (answer("200", &"<a>".repeat(1000)), "no XML that is read"),
        (answer("400", "<Error><Code>PermanentRedirect</Code><Region>\u{1b}[2Jbay</Region></Error>"), "\\u{1b}[2Jbay"),
        (answer("418", "<Error><Code>\u{7}Tea</Code></Error>"), "it answers 418"),
        (answer("403", "<Error><Code>RequestTimeTooSkewed</Code></Error>"), "not what its own shows"),
    ] {
        let port = says(answer.clone().into());
        let site = format!(
            "[store.delta]\nkind = \"objects\"\nat = \"http://127.0.0.1:{port}/bucket\"\nregion = \"bay\"\nkey-id = \"k\"\nkey = {{ env = \"KEY\" }}\n"
        );
        let folder = tempfile::tempdir().unwrap();
        let wires = wires(folder.path(), &site, Pocket(&[("KEY", "secret-of-the-bay")])).0;
        let (_, sentence) = failure(wires.store("delta").unwrap().unfinished(""));
        assert!(sentence.contains(part), "{sentence}");
        assert!(!sentence.chars().any(char::is_control) && !sentence.contains("secret"), "{sentence:?}");
    }
}

/// A service that answers every request of a session with `body`.
fn answers(body: &str) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let (port, body) = (listener.local_addr().unwrap().port(), body.to_string());
    thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            stream.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
            let mut request = Vec::new();
            let mut piece = [0; 4096];
            while let Ok(len) = stream.read(&mut piece) {
                request.extend(&piece[..len]);
                let text = String::from_utf8_lossy(&request).to_lowercase();
                let head = text.find("\r\n\r\n").map(|at| at + 4);
                let wanted =
                    text.split("content-length: ").nth(1).and_then(|rest| rest.split("\r\n").next()?.parse().ok());
                if len == 0 || head.is_some_and(|head| request.len() >= head + wanted.unwrap_or(0)) {
                    break;
                }
            }
            let is_session = request.starts_with(b"POST /v1/session");
            let body = if is_session { "{\"session\": \"s\"}" } else { &body };
            let head = format!("HTTP/1.1 200 x\r\nConnection: close\r\nContent-Length: {}\r\n\r\n", body.len());
            stream.write_all(format!("{head}{body}").as_bytes()).ok();
        }
    });
    port
}

#[test]
fn clouds_that_mean_harm_end_with_a_sentence() {
    use reformis_wire::clouds::{Object, Then, Wish};
    let folder = tempfile::tempdir().unwrap();
    let wish = Wish {
        name: "ledger".into(),
        then: Then::Stopped,
        objects: vec![Object { at: "http://h/o".into(), bytes: None }],
        launch: serde_json::json!({}),
        seed: None,
        trial: None,
    };
    let cloud = |kind: &str, body: &str| {
        let at = format!("http://127.0.0.1:{}", answers(body));
        let store = if kind == "import" {
            "store = \"jetty:\"\n[store.jetty]\nkind = \"folder\"\nat = \"http://h/x\"\n"
        } else {
            ""
        };
        let site = format!("[cloud.estuary]\nkind = \"{kind}\"\nat = \"{at}\"\n{store}");
        wires(folder.path(), &site, Pocket(&[])).0.cloud("estuary").unwrap()
    };
    for body in [
        "[]",
        "{\"import\": \"i\", \"state\": \"\\u001b[2J\"}",
        "{\"import\": \"../../admin\", \"state\": \"done\"}",
        "{\"import\": \"..\", \"state\": \"running\"}",
        &format!("{{\"import\": \"{}\", \"state\": \"running\"}}", "i".repeat(1000)),
    ] {
        let error = cloud("import", body).begin(&wish, "k").unwrap_err().to_string();
        assert!(error.contains("estuary") && !error.contains('\u{1b}'), "{body}: {error}");
    }
    let many = serde_json::json!({ "refusals": vec![serde_json::json!({ "code": "\u{1b}[2J", "sentence": "x".repeat(5000) }); 5000] });
    let refusals = cloud("import", &many.to_string()).check(&wish).unwrap();
    assert_eq!(refusals.len(), 100);
    assert!(refusals.iter().all(|refusal| refusal.whole().len() <= 400 && !refusal.whole().contains('\u{1b}')));
    // Images whose names lead elsewhere are none that is ours, and a list that leads round and round has an end.
    for body in [
        "{\"images\": [{\"id\": \"../x\", \"status\": \"active\", \"reformis_file\": \"a\"}]}",
        "{\"images\": [{\"id\": \"a/b\", \"status\": \"active\", \"reformis_file\": \"a\"}], \"next\": \"http://elsewhere/\"}",
    ] {
        let about = cloud("image-service", body).about().unwrap();
        assert!(about.iter().any(|line| line.starts_with("0 of its images")), "{about:?}");
    }
    let round = cloud("image-service", "{\"images\": [], \"next\": \"/v2/images?marker=1\"}").about().unwrap_err();
    assert!(round.to_string().contains("has no end"), "{round}");
}
