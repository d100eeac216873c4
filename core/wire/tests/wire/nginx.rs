//! Links, against nginx with TLS of an own authority.

use std::process::Command;

use reformis_disk::container::Source;
use reformis_standin::servers::{Authority, Nginx};
use reformis_wire::{Link, Wires};

use crate::common::{Pocket, content, failure, has, open, storage, whole, wires};

/// The signature of a link that is good until `expires`, as the server's settings have it.
fn signed(path: &str, expires: u64) -> String {
    let script =
        format!("printf %s '{expires}{path} key-of-links' | openssl md5 -binary | openssl base64 | tr +/ -_ | tr -d =");
    let out = Command::new("sh").args(["-c", &script]).output().unwrap();
    format!("sig={}&exp={expires}", String::from_utf8(out.stdout).unwrap().trim())
}

#[test]
fn a_real_server_with_tls_tokens_and_links_that_expire() {
    if !has("a_real_server_with_tls_tokens_and_links_that_expire", &["nginx", "openssl"]) {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    std::fs::set_permissions(folder.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let www = folder.path().join("www");
    std::fs::create_dir(&www).unwrap();
    let bytes = content(7 << 20);
    std::fs::write(www.join("disk.img"), &bytes).unwrap();
    std::fs::write(www.join("b side.txt"), "x").unwrap();
    let authority = Authority::new(folder.path()).unwrap();
    authority.issue("server", "DNS:store.inner.example", "serverAuth").unwrap();
    authority.issue("local", "DNS:localhost,IP:127.0.0.1", "serverAuth").unwrap();
    authority.issue("client", "DNS:client.inner.example", "clientAuth").unwrap();
    let server = Nginx::start(folder.path(), &www, &authority).unwrap();
    let (store, local) =
        (format!("https://store.inner.example:{}", server.tls), format!("https://localhost:{}", server.certificates));
    let text = format!(
        "[link.\"{store}\"]\nauthorities = [\"ca.pem\"]\nconnect-to = \"127.0.0.1:{tls}\"\n\
         [link.\"{store}/t\"]\nauthorities = [\"ca.pem\"]\nconnect-to = \"127.0.0.1:{tls}\"\ntoken = {{ env = \"TOKEN\" }}\n\
         [link.\"{store}/x\"]\nauthorities = [\"ca.pem\"]\nconnect-to = \"127.0.0.1:{tls}\"\nheaders = {{ X-Export-Token = {{ env = \"MORE\" }} }}\n\
         [link.\"{store}/away\"]\nauthorities = [\"ca.pem\"]\nconnect-to = \"127.0.0.1:{tls}\"\ntoken = {{ env = \"TOKEN\" }}\nheaders = {{ X-Export-Token = {{ env = \"MORE\" }} }}\n\
         [link.\"{local}\"]\nauthorities = [\"ca.pem\"]\n\
         [link.\"{local}/mine\"]\nauthorities = [\"ca.pem\"]\nclient-certificate = \"client.pem\"\nclient-key = \"client.key\"\n",
        tls = server.tls
    );
    let keys = || Pocket(&[("TOKEN", "secret-token-1"), ("MORE", "secret-token-2")]);
    let (wires, _) = wires(folder.path(), &text, keys());
    for path in ["t/disk.img", "x/disk.img", "away/disk.img", "list/disk.img"] {
        let disk = storage(&wires, &format!("{store}/{path}"));
        assert!(whole(disk.as_ref()).unwrap() == bytes, "{path}");
    }
    assert!(whole(storage(&wires, &format!("{local}/mine/disk.img")).as_ref()).unwrap() == bytes);
    // No header of the first server arrived at the other one.
    let (first, others) = server.logs();
    assert!(
        others.contains("/disk.img") && !others.contains("secret-token") && first.contains("secret-token-2"),
        "{others}"
    );

    for path in ["norange/disk.img", "chunked/disk.img"] {
        assert!(matches!(open(&wires, &format!("{store}/{path}")).unwrap(), Source::Stream(_)), "{path}");
    }
    // We ask for no packing, and get none.
    assert!(whole(storage(&wires, &format!("{store}/gz/disk.img")).as_ref()).unwrap() == bytes);
    let names = wires.list(&Link::parse(&format!("{store}/list/")).unwrap()).unwrap().unwrap();
    assert_eq!(names, ["b side.txt", "disk.img"]);
    let beside = storage(&wires, &format!("{store}/list/disk.img"))
        .sibling("b side.txt", reformis_disk::source::Links::OwnFolder);
    assert_eq!(beside.unwrap().len(), 1);

    let later = jiff::Timestamp::now().as_second() as u64 + 3600;
    let good = format!("{store}/link/disk.img?{}", signed("/link/disk.img", later));
    let disk = storage(&wires, &good);
    assert!(whole(disk.as_ref()).unwrap() == bytes && !disk.name().contains("sig"));
    let old = format!("{store}/link/disk.img?{}", signed("/link/disk.img", 1_700_000_000));
    assert_eq!(failure(open(&wires, &old)).0, "link-expired");

    assert_eq!(failure(open(&wires, &format!("{store}/down/disk.img"))).0, "refused-there", "no way leads out of TLS");
    // What is said of links below one is not said of those that climb out of it.
    assert_eq!(failure(open(&wires, &format!("{local}/mine/../disk.img"))).0, "not-trusted");
    // An authority that nobody knows, and a name that the certificate does not have.
    assert_eq!(failure(open(&Wires::plain(), &format!("{local}/disk.img"))).0, "not-trusted");
    let wrong = text.replace("store.inner.example", "other.inner.example");
    let (wrong, _) = crate::common::wires(folder.path(), &wrong, keys());
    let (code, sentence) = failure(open(&wrong, &format!("{}/list/disk.img", store.replace("store", "other"))));
    assert!(code == "not-trusted" && sentence.contains("another name"), "{sentence}");
}
