//! Network block devices, against the emulator's server.

use reformis_disk::{ExtentKind, container::Source};
use reformis_standin::servers::{Authority, NbdServer, Proxy};
use reformis_wire::{Link, Wires};

use crate::common::{Pocket, content, failure, has, open, storage, whole, wires};

const NOBODY: Pocket = Pocket(&[]);

#[test]
fn exports_are_listed_and_read_with_their_holes() {
    if !has("exports_are_listed_and_read_with_their_holes", &["qemu-system-x86_64"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("disk.raw");
    let mut bytes = content(5 << 20);
    std::fs::write(&file, &bytes).unwrap();
    std::fs::File::options().write(true).open(&file).unwrap().set_len(32 << 20).unwrap();
    bytes.resize(32 << 20, 0);
    let mut server = NbdServer::start(folder.path(), &file, None).unwrap();
    server.write(0x5a, 8 << 20, 1 << 20).unwrap();
    let wires = Wires::plain();
    let base = format!("nbd://127.0.0.1:{}", server.port);
    let names = wires.list(&Link::parse(&format!("{base}/")).unwrap()).unwrap().unwrap();
    assert_eq!(names, ["disk", "thin"]);
    let disk = storage(&wires, &format!("{base}/disk"));
    assert!(disk.is_raw(), "a guest's bytes are never taken for something else");
    assert!(whole(disk.as_ref()).unwrap() == bytes);
    let last = disk.extent_at(20 << 20).unwrap();
    assert_eq!((last.kind, last.end()), (ExtentKind::Zero, 32 << 20));
    assert_eq!(disk.extent_at(0).unwrap().kind, ExtentKind::Data);

    // A map of what was written says where data is.
    let thin = storage(&wires, &format!("{base}/thin?bitmap=b0"));
    let written = thin.extent_at(8 << 20).unwrap();
    assert_eq!((written.kind, written.end()), (ExtentKind::Data, 9 << 20));
    assert_eq!(thin.extent_at(0).unwrap().kind, ExtentKind::Zero);
    let mut byte = [0; 2];
    thin.read_at((9 << 20) - 1, &mut byte).unwrap();
    assert_eq!(byte, [0x5a, 0]);
    assert_eq!(failure(open(&wires, &format!("{base}/thin?bitmap=nix"))).0, "not-there");
    assert_eq!(failure(open(&wires, &format!("{base}/nix"))).0, "not-there");
    assert!(failure(open(&wires, &format!("nbds://127.0.0.1:{}/disk", server.port))).1.contains("no TLS"));
}

#[test]
fn tls_wants_both_certificates_and_a_line_may_break() {
    if !has("tls_wants_both_certificates_and_a_line_may_break", &["qemu-system-x86_64", "openssl"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let authority = Authority::new(folder.path()).unwrap();
    authority.issue("local", "DNS:localhost,IP:127.0.0.1", "serverAuth").unwrap();
    authority.issue("client", "DNS:client.inner.example", "clientAuth").unwrap();
    let file = folder.path().join("disk.raw");
    let bytes = content(9 << 20);
    std::fs::write(&file, &bytes).unwrap();
    let server = NbdServer::start(folder.path(), &file, Some(&authority)).unwrap();
    let proxy = Proxy::start(([127, 0, 0, 1], server.port).into(), std::time::Duration::ZERO).unwrap();
    let link = format!("nbds://localhost:{}/disk", server.port);
    let text = format!(
        "[link.\"nbds://localhost:{}\"]\nauthorities = [\"ca.pem\"]\nclient-certificate = \"client.pem\"\nclient-key = \"client.key\"\nconnect-to = \"{}\"\n",
        server.port,
        proxy.address()
    );
    let (wires, told) = wires(folder.path(), &text, NOBODY);
    let disk = storage(&wires, &link);
    proxy.cut_after(1_500_000, 3);
    assert!(whole(disk.as_ref()).unwrap() == bytes);
    assert!(proxy.cuts() >= 1 && !told.lock().unwrap().is_empty(), "{} cuts", proxy.cuts());
    // Without what is trusted, without our own, and without TLS.
    assert_eq!(failure(open(&Wires::plain(), &link)).0, "not-trusted");
    let only = text.replace("client-certificate = \"client.pem\"\nclient-key = \"client.key\"\n", "");
    let (stranger, _) = crate::common::wires(folder.path(), &only, NOBODY);
    let (code, sentence) =
        failure(open(&stranger, &link).and_then(Source::random_access).and_then(|disk| disk.read_at(0, &mut [0])));
    assert!(matches!(code, "denied" | "unreachable"), "{code}: {sentence}");
    assert!(failure(open(&Wires::plain(), &format!("nbd://127.0.0.1:{}/disk", server.port))).1.contains("nbds://"));
}
