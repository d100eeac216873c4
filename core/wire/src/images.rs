//! An image service of an open-source cloud (the Image service API, version 2): images with properties, whose data is sent in one
//! stream.

use std::io::Read;

use reformis_disk::error::WireKind;
use serde::Deserialize;
use serde_json::{Value, json};
use ureq::{SendBody, http::Response};

use crate::{
    fault::Fault,
    http::{Relink, document, fault_of_answer},
    link::{Link, encoded},
    wires::Wires,
};

/// The longest answer, in bytes.
const MOST: u64 = 16 << 20;
/// Pages of a list that are asked for.
const PAGES: usize = 1000;
/// The property by which an image is found again: the name that its disk has in the landing's store.
pub(crate) const FILE: &str = "reformis_file";
/// Formats that the service has a word for, by the endings of names.
const FORMATS: [&str; 6] = ["raw", "qcow2", "vmdk", "vhd", "vhdx", "vdi"];

/// An image.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
pub(crate) struct Image {
    pub(crate) id: String,
    pub(crate) status: String,
    pub(crate) name: Option<String>,
    pub(crate) size: Option<u64>,
    pub(crate) os_hash_algo: Option<String>,
    pub(crate) os_hash_value: Option<String>,
    #[serde(rename = "reformis_file")]
    pub(crate) file: Option<String>,
}

#[derive(Deserialize)]
struct List {
    images: Vec<Image>,
    next: Option<String>,
}

/// A service at a link.
#[derive(Clone)]
pub(crate) struct Images {
    wires: Wires,
    link: Link,
}

/// Whether what the service calls an image can stand in a path.
fn is_plain(id: &str) -> bool {
    !id.is_empty() && id.len() < 100 && id.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
}

fn bytes_of(response: &mut Response<ureq::Body>) -> Result<Vec<u8>, Fault> {
    document(response.body_mut().as_reader(), MOST)
}

/// What an answer's text holds.
pub(crate) fn parse<T: for<'de> Deserialize<'de>>(bytes: &[u8]) -> Result<T, Fault> {
    serde_json::from_slice(bytes).map_err(|_| Fault::protocol("its answer is not that of an image service"))
}

/// Reads `bytes` as each answer of the service, as a fuzzer does.
pub(crate) fn read_answers(bytes: &[u8]) -> usize {
    usize::from(parse::<Image>(bytes).is_ok_and(|image| is_plain(&image.id)))
        + parse::<List>(bytes).map_or(0, |list| list.images.len())
}

impl Images {
    pub(crate) fn new(wires: &Wires, link: Link) -> Self {
        Self { wires: wires.clone(), link }
    }

    fn target(&self, path: &str) -> String {
        let base = self.link.with_path(self.link.path.trim_end_matches('/').to_string());
        format!("{base}/v2/{path}")
    }

    /// Sends one request; the answer, when it is a success.
    fn ask(&self, method: &str, path: &str, kind: &str, body: Option<&str>) -> Result<Response<ureq::Body>, Fault> {
        let client = self.wires.inner.client(&self.link, false)?;
        let (target, headers) = (self.target(path), [("content-type", kind), ("accept", "application/json")]);
        let response = match body {
            Some(body) => client.send_to(method, &target, &headers, body)?,
            None => client.send_to(method, &target, &headers[1..], ())?,
        };
        checked(response)
    }

    /// A link to the data of the image `id`.
    pub(crate) fn data(&self, id: &str) -> Result<Link, Fault> {
        Link::parse(&self.target(&format!("images/{id}/file"))).map_err(|error| Fault::protocol(error.what))
    }

    /// All images that fit `query`.
    fn list(&self, query: &str) -> Result<Vec<Image>, Fault> {
        let (mut found, mut path) = (Vec::new(), format!("images?limit=100&{query}"));
        for _ in 0..PAGES {
            let list: List = parse(&bytes_of(&mut self.ask("GET", &path, "", None)?)?)?;
            found.extend(list.images.into_iter().filter(|image| is_plain(&image.id)));
            match list.next.as_deref().and_then(|next| next.strip_prefix("/v2/")) {
                Some(next) => path = next.into(),
                None => return Ok(found),
            }
        }
        Err(Fault::protocol("its list has no end"))
    }

    /// The images of which the disk `file` was sent, whatever became of them.
    pub(crate) fn of_file(&self, file: &str) -> Result<Vec<Image>, Fault> {
        let images = self.list(&format!("{FILE}={}", encoded(file, false)))?;
        Ok(images.into_iter().filter(|image| image.file.as_deref() == Some(file)).collect())
    }

    /// All images that we sent, whole or not.
    pub(crate) fn ours(&self) -> Result<Vec<Image>, Fault> {
        Ok(self.list("")?.into_iter().filter(|image| image.file.is_some()).collect())
    }

    /// Whether an image called `name` is there.
    pub(crate) fn has_name(&self, name: &str) -> Result<bool, Fault> {
        Ok(!self.list(&format!("name={}", encoded(name, false)))?.is_empty())
    }

    /// The image `id`.
    pub(crate) fn get(&self, id: &str) -> Result<Image, Fault> {
        parse(&bytes_of(&mut self.ask("GET", &format!("images/{id}"), "", None)?)?)
    }

    /// Makes an image without data for the disk `file`.
    pub(crate) fn create(&self, file: &str) -> Result<Image, Fault> {
        let ending = file.rsplit('.').next().unwrap_or_default();
        let format = FORMATS.iter().find(|format| **format == ending).ok_or_else(|| {
            let what = format!("it has no word for '.{ending}'; there are {}", FORMATS.join(", "));
            Fault::Fatal(WireKind::Refused, what)
        })?;
        let body = json!({ "name": file, "disk_format": format, "container_format": "bare", FILE: file }).to_string();
        let image: Image = parse(&bytes_of(&mut self.ask("POST", "images", "application/json", Some(&body))?)?)?;
        match is_plain(&image.id) {
            true => Ok(image),
            false => Err(Fault::protocol("it calls an image by no sound name")),
        }
    }

    /// Sends the data of the image `id`: all that `reader` gives.
    pub(crate) fn put(&self, id: &str, mut reader: impl Read) -> Result<(), Fault> {
        let client = self.wires.inner.client(&self.link, false)?;
        let target = self.target(&format!("images/{id}/file"));
        let headers = [("content-type", "application/octet-stream")];
        checked(client.send_to("PUT", &target, &headers, SendBody::from_reader(&mut reader))?).map(drop)
    }

    /// Sets properties of the image `id`.
    pub(crate) fn set(&self, id: &str, values: &[(&str, Value)]) -> Result<(), Fault> {
        // Adding what is there replaces it (RFC 6902, section 4.1).
        let changes: Vec<Value> = values
            .iter()
            .map(|(name, value)| json!({ "op": "add", "path": format!("/{name}"), "value": value }))
            .collect();
        let kind = "application/openstack-images-v2.1-json-patch";
        self.ask("PATCH", &format!("images/{id}"), kind, Some(&json!(changes).to_string())).map(drop)
    }

    /// Removes the image `id`.
    pub(crate) fn remove(&self, id: &str) -> Result<(), Fault> {
        match self.ask("DELETE", &format!("images/{id}"), "", None) {
            Err(Fault::Fatal(WireKind::Absent, _)) => Ok(()),
            other => other.map(drop),
        }
    }
}

/// The answer, when it is a success; what it means, when it is none.
fn checked(mut response: Response<ureq::Body>) -> Result<Response<ureq::Body>, Fault> {
    let status = response.status().as_u16();
    if response.status().is_success() {
        return Ok(response);
    }
    Err(match status {
        401 => {
            Fault::Fatal(WireKind::Denied, "it does not let us in: look at the token in the table of its link".into())
        }
        403 => Fault::Fatal(WireKind::Denied, "our role may not do that: have it granted what makes images".into()),
        404 => Fault::Fatal(WireKind::Absent, "there is no such image".into()),
        409 => Fault::Fatal(WireKind::Refused, "the image is not in the state for that".into()),
        413 => Fault::Fatal(WireKind::Refused, "it has no room for that: ask for a larger quota".into()),
        400..=499 => {
            let said = bytes_of(&mut response).unwrap_or_default();
            let said: String = String::from_utf8_lossy(&said).chars().filter(|c| !c.is_control()).take(200).collect();
            Fault::Fatal(WireKind::Refused, format!("it answers {status}: {said}"))
        }
        _ => fault_of_answer(status, response.headers(), false),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_an_image_is_called_can_stand_in_a_path() {
        let image = |id: &str| format!("{{\"id\": \"{id}\", \"status\": \"queued\"}}");
        assert_eq!(read_answers(image("a2ea4217-2b8a-478f").as_bytes()), 1);
        for id in ["", "../../v3", "a b", "a?b", &"a".repeat(200)] {
            assert_eq!(read_answers(image(id).as_bytes()), 0, "{id}");
        }
    }
}
