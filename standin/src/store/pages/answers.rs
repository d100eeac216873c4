//! What each request comes to.

use std::{
    collections::BTreeMap,
    fs::{self, File, OpenOptions},
    os::unix::fs::FileExt,
    path::PathBuf,
};

use super::{Answer, Body, Object, State, refuse};
use crate::{
    host::request::Request,
    listen::lock,
    store::{refusal::Refusal, signature::decoded},
};

/// Bytes of a page, and the most that is put at once.
const PAGE: u64 = 512;
const MOST: u64 = 4 << 20;
/// Objects and ranges in one list.
const LISTED: usize = 5;

/// Makes `start..end` of an object zero, and forgets its pages.
fn clear(object: &mut Object, start: u64, end: u64) -> std::io::Result<()> {
    let file = OpenOptions::new().write(true).open(&object.file)?;
    let zeros = vec![0; 1 << 16];
    for (from, to) in object.runs.iter().map(|(from, to)| ((*from).max(start), (*to).min(end))) {
        for at in (from..to).step_by(zeros.len()) {
            file.write_all_at(&zeros[..(to - at).min(zeros.len() as u64) as usize], at)?;
        }
    }
    let apart = |(from, to): &(u64, u64)| [(*from, (*to).min(start)), ((*from).max(end), *to)];
    object.runs = object.runs.iter().flat_map(apart).filter(|(from, to)| from < to).collect();
    object.version += 1;
    Ok(())
}

/// `runs` with `start..end` among them, those that touch joined.
fn joined(runs: &[(u64, u64)], start: u64, end: u64) -> Vec<(u64, u64)> {
    let mut all: Vec<(u64, u64)> = runs.iter().copied().chain([(start, end)]).collect();
    all.sort_unstable();
    let mut joined: Vec<(u64, u64)> = Vec::new();
    for (start, end) in all {
        match joined.last_mut().filter(|(_, last)| *last >= start) {
            Some((_, last)) => *last = end.max(*last),
            None => joined.push((start, end)),
        }
    }
    joined
}

/// Both ends of `bytes=FIRST-LAST`.
fn ends(text: &str) -> Option<(u64, u64)> {
    let (first, last) = text.strip_prefix("bytes=")?.split_once('-')?;
    let (first, last) = (first.parse().ok()?, last.parse().ok()?);
    (first <= last).then_some((first, last))
}

impl State {
    fn file_of(&self, name: &str) -> PathBuf {
        let plain = |byte: u8| match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'_' => char::from(byte).to_string(),
            _ => format!("%{byte:02X}"),
        };
        self.options.data.join(name.bytes().map(plain).collect::<String>())
    }

    pub(super) fn put(&self, request: &Request, comp: Option<&str>, name: &str) -> Result<Answer, Refusal> {
        let trouble = |_| Refusal::new(500, "InternalError");
        let header = |name: &str| request.headers.get(name).map(String::as_str);
        if header("content-length").is_none() {
            return refuse(411, "MissingContentLengthHeader");
        }
        let marks = request.headers.iter().filter(|(name, _)| name.starts_with("x-ms-meta-"));
        let marks: BTreeMap<String, String> = marks.map(|(name, value)| (name.clone(), value.clone())).collect();
        let length = || header("x-ms-blob-content-length").and_then(|len| len.parse::<u64>().ok());
        let mut objects = lock(&self.objects);
        let quota = *lock(&self.quota);
        let used: u64 = objects.values().flat_map(|object| &object.runs).map(|(start, end)| end - start).sum();
        let done = |status: u16| Ok(Answer(status, Vec::new(), Body::Text(String::new())));
        match (comp, header("x-ms-blob-type")) {
            (None, Some("BlockBlob")) => {
                let (file, len) = (self.file_of(name), request.body.len() as u64);
                fs::write(&file, &request.body).map_err(trouble)?;
                objects.insert(name.into(), Object { len, marks, file, version: 1, ..Object::default() });
                done(201)
            }
            (None, Some("PageBlob")) => {
                let Some(len) = length().filter(|len| len.is_multiple_of(PAGE) && request.body.is_empty()) else {
                    return refuse(400, "InvalidHeaderValue");
                };
                let file = self.file_of(name);
                File::create(&file).and_then(|file| file.set_len(len)).map_err(trouble)?;
                let object = Object { is_pages: true, len, marks, file, version: 1, runs: Vec::new() };
                objects.insert(name.into(), object);
                done(201)
            }
            (Some("page"), None) => {
                let Some(object) = objects.get_mut(name) else { return refuse(404, "BlobNotFound") };
                if !object.is_pages {
                    return refuse(409, "InvalidBlobType");
                }
                let Some((first, last)) = header("x-ms-range").and_then(ends) else {
                    return refuse(400, "MissingRequiredHeader");
                };
                let len = last - first + 1;
                if header("x-ms-page-write") == Some("clear") {
                    let is_right = first.is_multiple_of(PAGE) && len.is_multiple_of(PAGE) && request.body.is_empty();
                    if !is_right || last >= object.len {
                        return refuse(416, "InvalidPageRange");
                    }
                    clear(object, first, last + 1).map_err(trouble)?;
                    return done(201);
                }
                let is_right = header("x-ms-page-write") == Some("update")
                    && first.is_multiple_of(PAGE)
                    && len.is_multiple_of(PAGE)
                    && len <= MOST
                    && len == request.body.len() as u64;
                if !is_right || last >= object.len {
                    return refuse(416, "InvalidPageRange");
                }
                if used + len > quota {
                    return refuse(403, "AccountQuotaExceeded");
                }
                let file = OpenOptions::new().write(true).open(&object.file).map_err(trouble)?;
                file.write_all_at(&request.body, first).map_err(trouble)?;
                object.runs = joined(&object.runs, first, last + 1);
                object.version += 1;
                done(201)
            }
            (Some("properties"), None) => {
                let (Some(object), Some(len)) = (objects.get_mut(name), length()) else {
                    return refuse(404, "BlobNotFound");
                };
                if !object.is_pages || !len.is_multiple_of(PAGE) {
                    return refuse(400, "InvalidHeaderValue");
                }
                let file = OpenOptions::new().write(true).open(&object.file).map_err(trouble)?;
                file.set_len(len).map_err(trouble)?;
                object.len = len;
                object.runs.retain(|(start, _)| *start < len);
                object.version += 1;
                done(200)
            }
            (Some("snapshot"), None) => {
                let Some(object) = objects.get(name) else { return refuse(404, "BlobNotFound") };
                self.snapshot(name, object, marks)
            }
            (Some("metadata"), None) => {
                let Some(object) = objects.get_mut(name) else { return refuse(404, "BlobNotFound") };
                object.marks = marks;
                object.version += 1;
                done(200)
            }
            _ => refuse(400, "InvalidQueryParameterValue"),
        }
    }

    /// The object that `request` means, or its snapshot.
    fn asked_for(&self, request: &Request, name: &str) -> Result<Object, Refusal> {
        let found = match request.parameter("snapshot").map(decoded) {
            Some(moment) => lock(&self.snapshots).get(&(name.to_string(), moment)).cloned(),
            None => lock(&self.objects).get(name).cloned(),
        };
        found.ok_or_else(|| Refusal::new(404, "BlobNotFound"))
    }

    /// Keeps `object` as it is now.
    fn snapshot(&self, name: &str, object: &Object, marks: BTreeMap<String, String>) -> Result<Answer, Refusal> {
        let mut snapshots = lock(&self.snapshots);
        let day = "2026-11-26";
        let seconds = self.now() % 86_400;
        // Tenths of microseconds tell two of one second apart.
        let (hour, minute, second) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
        let moment = format!("{day}T{hour:02}:{minute:02}:{second:02}.{:07}Z", snapshots.len() + 1);
        let file = object.file.with_extension(format!("snapshot-{}", snapshots.len() + 1));
        fs::copy(&object.file, &file).map_err(|_| Refusal::new(500, "InternalError"))?;
        let marks = if marks.is_empty() { object.marks.clone() } else { marks };
        snapshots.insert((name.into(), moment.clone()), Object { file, marks, ..object.clone() });
        Ok(Answer(201, vec![("x-ms-snapshot".into(), moment)], Body::Text(String::new())))
    }

    pub(super) fn remove(&self, request: &Request, name: &str) -> Result<Answer, Refusal> {
        let mut snapshots = lock(&self.snapshots);
        let removed = match request.parameter("snapshot").map(decoded) {
            Some(moment) => snapshots.remove(&(name.to_string(), moment)),
            None => {
                let includes = request.headers.get("x-ms-delete-snapshots").is_some_and(|which| which == "include");
                if !includes && snapshots.keys().any(|(of, _)| of == name) {
                    return refuse(409, "SnapshotsPresent");
                }
                snapshots.retain(|(of, _), object| of != name || fs::remove_file(&object.file).is_err());
                lock(&self.objects).remove(name)
            }
        };
        let Some(object) = removed else { return refuse(404, "BlobNotFound") };
        fs::remove_file(object.file).ok();
        Ok(Answer(202, Vec::new(), Body::Text(String::new())))
    }

    pub(super) fn read(&self, request: &Request, name: &str) -> Result<Answer, Refusal> {
        let object = self.asked_for(request, name)?;
        let tag = format!("\"0x{}-{}\"", object.version, object.len);
        if request.headers.get("if-match").is_some_and(|wanted| *wanted != tag) {
            return refuse(412, "ConditionNotMet");
        }
        let mut headers = vec![("ETag".to_string(), tag), ("Accept-Ranges".to_string(), "bytes".to_string())];
        if request.method == "HEAD" {
            let kind = if object.is_pages { "PageBlob" } else { "BlockBlob" };
            headers.push(("x-ms-blob-type".into(), kind.into()));
            headers.extend(object.marks.clone());
            return Ok(Answer(200, headers, Body::Told(object.len)));
        }
        let Ok(file) = File::open(&object.file) else { return refuse(500, "InternalError") };
        // The interface's own header comes before the one of HTTP.
        let own = request.headers.get("x-ms-range").and_then(|range| ends(range));
        let own = own.filter(|(first, _)| *first < object.len).map(|(first, last)| (first, last.min(object.len - 1)));
        match own.or_else(|| request.range(object.len)) {
            Some((first, last)) => {
                headers.push(("Content-Range".into(), format!("bytes {first}-{last}/{}", object.len)));
                Ok(Answer(206, headers, Body::Part(file, first, last - first + 1)))
            }
            None if request.headers.contains_key("range") => refuse(416, "InvalidRange"),
            None => Ok(Answer(200, headers, Body::Part(file, 0, object.len))),
        }
    }

    pub(super) fn page_list(&self, request: &Request, name: &str) -> Result<Answer, Refusal> {
        let object = self.asked_for(request, name)?;
        let from: usize = request.parameter("marker").and_then(|marker| marker.parse().ok()).unwrap_or(0);
        let runs = object.runs.iter().skip(from).take(LISTED);
        let range =
            |(start, end): &(u64, u64)| format!("<PageRange><Start>{start}</Start><End>{}</End></PageRange>", end - 1);
        let rows: String = runs.map(range).collect();
        let next = from + LISTED;
        let marker = if next < object.runs.len() { next.to_string() } else { String::new() };
        let text = format!("<?xml version=\"1.0\"?><PageList>{rows}<NextMarker>{marker}</NextMarker></PageList>");
        Ok(Answer(200, vec![("x-ms-blob-content-length".into(), object.len.to_string())], Body::Text(text)))
    }

    pub(super) fn list(&self, request: &Request) -> Answer {
        let objects = lock(&self.objects);
        let prefix = request.parameter("prefix").map(decoded).unwrap_or_default();
        let from: usize = request.parameter("marker").and_then(|marker| marker.parse().ok()).unwrap_or(0);
        let with = request.parameter("include").map(decoded).unwrap_or_default();
        let snapshots = lock(&self.snapshots);
        let own = objects.iter().map(|(name, object)| (name, String::new(), object));
        let moments = snapshots.iter().map(|((name, moment), object)| (name, moment.clone(), object));
        let moments = moments.filter(|_| with.split(',').any(|word| word == "snapshots"));
        let all: Vec<_> = own.chain(moments).filter(|(name, ..)| name.starts_with(&prefix)).collect();
        let row = |(name, moment, object): &(&String, String, &Object)| {
            let moment = if moment.is_empty() { String::new() } else { format!("<Snapshot>{moment}</Snapshot>") };
            let marks: String = object
                .marks
                .iter()
                .map(|(name, value)| (name.trim_start_matches("x-ms-meta-"), value))
                .map(|(name, value)| format!("<{name}>{value}</{name}>"))
                .collect();
            let kind = if object.is_pages { "PageBlob" } else { "BlockBlob" };
            format!(
                "<Blob><Name>{}</Name>{moment}<Properties><Content-Length>{}</Content-Length><BlobType>{kind}</BlobType></Properties><Metadata>{marks}</Metadata></Blob>",
                name.replace('&', "&amp;"),
                object.len
            )
        };
        let rows: String = all.iter().skip(from).take(LISTED).map(row).collect();
        let next = from + LISTED;
        let marker = if next < all.len() { next.to_string() } else { String::new() };
        let text = format!(
            "<?xml version=\"1.0\"?><EnumerationResults><Blobs>{rows}</Blobs><NextMarker>{marker}</NextMarker></EnumerationResults>"
        );
        Answer(200, Vec::new(), Body::Text(text))
    }
}
