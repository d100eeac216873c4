//! Making the result of a recast.

use reformis_disk::to_usize;
use std::{
    fs::File,
    io::{self, Read, Write},
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
    sync::Arc,
};

use jiff::Timestamp;
use reformis_disk::{
    Facts, Format, Image, Shape, Storage,
    budget::Budget,
    container::{
        Stream,
        packed::{self, Wrapping},
    },
    copy::{
        output::Output,
        pipeline,
        watch::Watch,
        writer::{Copied, Writer},
    },
    disk::GrownDisk,
    format::{self, NewImage},
    overlay::Edit,
    source::{Access, FileStorage},
};

use reformis_wire::Wires;

use crate::{
    TOOL,
    error::{Error, Result},
    finding::{self, Finding},
    observer::{Context, Step},
    receipt::{self, DiskFacts, DiskRecord, Receipt},
    record::{GuestRecord, SourceFile},
    staging::{self, StagedFile},
    target::{self, unpack},
    verdict::Verdict,
};

use super::{Edited, Editor, Options, Recast};

/// What is asked for, understood.
pub(super) struct Job<'a> {
    pub(super) options: &'a Options,
    pub(super) shape: Shape,
    /// The result is compressed as a whole.
    wrapping: Option<Wrapping>,
    pub(super) editor: Option<&'a Editor<'a>>,
    /// The network, whose names are no paths of this machine.
    wires: &'a Wires,
    /// Who may read all that goes into the disk.
    narrowed: Access,
}

/// What a copy gave.
pub(super) struct Made {
    pub(super) before: Facts,
    pub(super) after: Option<Facts>,
    pub(super) copied: Copied,
    pub(super) sources: Vec<SourceFile>,
    pub(super) edits: Vec<Edit>,
    pub(super) guest: Option<GuestRecord>,
    pub(super) verdict: Option<Verdict>,
    /// The result under its name, which it loses again unless it is kept.
    pub(super) place: Place,
}

/// Where the result goes.
pub(super) enum Place {
    File(Box<StagedFile>),
    Stdout,
}

impl<'a> Job<'a> {
    pub(super) fn new(
        options: &'a Options,
        editor: Option<&'a Editor<'a>>,
        narrowed: Access,
        wires: &'a Wires,
    ) -> Result<Self> {
        let to_stdout = options.result == Path::new("-");
        let ending = options.result.extension().and_then(|e| e.to_str()).and_then(Wrapping::from_extension);
        // `guest.raw.zst` is raw inside zstd.
        let plain = if ending.is_some() { options.result.with_extension("") } else { options.result.clone() };
        let shape = match (options.shape, to_stdout) {
            (None, true) => Shape::new(Format::Raw, reformis_disk::Layout::Thin),
            (asked, _) => format::shape_for(&plain, asked).map_err(reformis_disk::Error::from)?,
        };
        let job = Self { options, shape, wrapping: ending, editor, wires, narrowed };
        job.made().try_for_each(|made| refuse_same_file(&options.source, made))?;
        Ok(job)
    }

    /// Files that are made and may not be the source's; what takes the source's place is meant to.
    fn made(&self) -> impl Iterator<Item = &PathBuf> {
        Some(&self.options.result).filter(|_| !self.options.in_place).into_iter().chain(&self.options.receipt)
    }

    /// What there is to say of a result whose name says another format than it has.
    pub(super) fn misleading_name(&self) -> Option<Finding> {
        let plain = packed::inner_name(&self.options.result.to_string_lossy());
        let said = Path::new(&plain).extension().and_then(|ending| ending.to_str()).and_then(Format::from_extension);
        said.filter(|said| *said != self.shape.format && !self.options.in_place)
            .map(|_| Finding::MisleadingName { result: self.result_name(), format: self.shape.format.name() })
    }

    pub(super) fn is_stdin(&self) -> bool {
        self.options.source == Path::new("-")
    }

    fn is_stdout(&self) -> bool {
        self.options.result == Path::new("-")
    }

    /// Who may open the source.
    pub(super) fn access(&self) -> Access {
        access_of(&self.options.source, self.wires).and(self.narrowed)
    }

    /// The source as it may be shown and kept.
    fn shown(&self) -> String {
        reformis_wire::without_secrets(&self.options.source.to_string_lossy())
    }

    /// The source as messages call it.
    fn source_name(&self) -> String {
        let path = PathBuf::from(self.shown());
        let name = if self.is_stdin() { Path::new("stdin").as_os_str() } else { path.file_name().unwrap_or_default() };
        name.to_string_lossy().into_owned()
    }

    /// The result as messages call it.
    fn result_name(&self) -> String {
        if self.is_stdout() { "stdout".into() } else { self.options.result.to_string_lossy().into_owned() }
    }

    /// The size of the result for a source of `before` bytes.
    fn size(&self, before: u64) -> Result<u64> {
        if let Some(grow) = self.options.grow.filter(|&grow| grow < before) {
            let path = self.shown();
            return Err(Error::Shrink { path, size: before, asked: grow });
        }
        let align = self.options.align.unwrap_or(1).max(1);
        let wanted = self.options.grow.unwrap_or(before).checked_next_multiple_of(align);
        let wanted = wanted.ok_or(Error::TooLarge { size: before, align })?;
        let size = format::stored_size(self.shape.format, wanted);
        format::check_size(&self.result_name(), self.shape.format, size)?;
        Ok(size)
    }

    /// Opens the result's place and a writer into it. No file of the result, nor the receipt, may be one of the source's:
    /// those in `read`, and the one that was named.
    fn begin(&self, size: Option<u64>, read: Vec<PathBuf>) -> Result<(Place, Box<dyn Writer>)> {
        let Options { squeeze, cluster, .. } = *self.options;
        let new = NewImage { shape: self.shape, size, squeeze, cluster, wrapping: self.wrapping };
        let name = self.result_name();
        if self.is_stdout() {
            let writer = format::create_in(Output::pipe(io::stdout(), name), &new)?;
            return Ok((Place::Stdout, writer));
        }
        let mut kept = read;
        kept.push(self.options.source.clone());
        for made in self.made() {
            kept.iter().try_for_each(|source| refuse_same_file(source, made))?;
        }
        let access = kept.iter().map(|source| access_of(source, self.wires)).fold(self.narrowed, Access::and);
        let staged = StagedFile::create(&self.options.result, self.options.force, access)?;
        let mut make = staged.pieces();
        let folder = staging::parent(&self.options.result);
        let make_other = move |name: &str| {
            let made = folder.join(name);
            kept.iter().try_for_each(|source| refuse_same_file(source, &made)).map_err(Error::into_disk)?;
            make(name)
        };
        let output = Output::with_pieces(staged.file()?, name, Box::new(make_other));
        let writer = format::create_in(output, &new)?;
        Ok((Place::File(Box::new(staged)), writer))
    }

    /// Gives the result its name, and tells what it is: an image says so itself, a pipe nothing.
    fn end(
        &self,
        place: &mut Place,
        writer: Box<dyn Writer>,
        copied: &Copied,
        context: &Context<'_>,
    ) -> Result<Option<Facts>> {
        // Its tables are as large as those that are read back below.
        drop(writer);
        if context.is_cancelled() {
            return Err(reformis_disk::Error::Interrupted.into());
        }
        let Place::File(staged) = place else {
            io::stdout().flush().map_err(Error::io("writing", Path::new("stdout")))?;
            return Ok(None);
        };
        staged.publish()?;
        // What we made ourselves is nothing of a stranger's.
        let storage = FileStorage::open(&self.options.result, &Budget::whole())?;
        Ok(Some(match self.wrapping {
            Some(kind) => Facts::of_stream(self.shape, kind.name(), copied.size, &storage),
            None => format::open(Arc::new(storage), Some(self.shape.format))?.facts,
        }))
    }

    fn step(&self, action: &'static str) -> Step {
        let what = if action == "unpacking" { self.source_name() } else { self.result_name() };
        Step { action, what, number: 1, of: 1 }
    }

    /// From an image that can be read at any place.
    pub(super) fn copy_image(
        &self,
        storage: Arc<dyn Storage>,
        findings: &mut Vec<Finding>,
        context: &Context<'_>,
    ) -> Result<Made> {
        let opener = format::opener(self.options.links).at_snapshot(self.options.snapshot.clone());
        let image = opener.open(storage.clone(), self.options.from)?;
        findings.extend(finding::of_image(&self.source_name(), &image.facts));
        if finding::blocked(findings) {
            return Err(Error::Refused { findings: std::mem::take(findings) });
        }
        let before = image.facts.virtual_size;
        let size = self.size(before)?;
        if size != before {
            findings.push(Finding::SizeRounded { disk: self.source_name(), size: before, rounded: size });
        }
        let edited = match self.editor {
            Some(editor) => editor(image.disk.clone())?,
            None => {
                Edited { disk: image.disk.clone(), edits: Vec::new(), guest: None, verdict: None, findings: Vec::new() }
            }
        };
        findings.extend(edited.findings);
        let disk = GrownDisk::new(edited.disk, size);
        let total = pipeline::work(&disk)?;
        let read = std::iter::once(&storage).chain(&image.files).map(|file| file.name().into()).collect();
        let (mut place, mut writer) = self.begin(Some(size), read)?;
        let copied =
            context.step(&self.step("recasting"), total, |watch| pipeline::copy(&disk, writer.as_mut(), watch))?;
        let after = self.end(&mut place, writer, &copied, context)?;
        let sources = sources_of(&storage, &image);
        Ok(Made {
            before: image.facts,
            after,
            copied,
            sources,
            edits: edited.edits,
            guest: edited.guest,
            verdict: edited.verdict,
            place,
        })
    }

    /// From what can only be read forwards: raw bytes go straight through, what needs more is unpacked first.
    pub(super) fn copy_stream(
        &self,
        stream: &Stream,
        findings: &mut Vec<Finding>,
        context: &Context<'_>,
    ) -> Result<Made> {
        let total = stream.storage().map_or(0, |storage| storage.len());
        let mut direct = None;
        // A pipe can be begun only once, so that what is found out and what is done about it are one visit.
        let spooled = self.visit(stream, context, total, |bytes, len, watch| {
            let mut head = vec![0; to_usize(format::HEAD)];
            let filled = packed::fill(bytes, &mut head, stream.name(), 0)?;
            head.truncate(filled);
            let inner = self.inner_name(stream);
            let format = self.options.from.or_else(|| format::detect_stream(&head, &inner));
            let mut bytes = io::Cursor::new(head).chain(bytes);
            // The size of an archive's member is known, that of what is packed inside is not.
            let known = len.filter(|_| stream.is_counted());
            let open_ended = if self.is_stdout() { format::is_open_ended_pipe } else { format::is_open_ended };
            let writable = known.is_some() || open_ended(self.shape);
            if format == Some(Format::Raw) && writable && self.options.snapshot.is_none() && self.editor.is_none() {
                direct = Some(self.through(&mut bytes, known, watch)?);
                return Ok(None);
            }
            let finding = unpack::spooled(stream);
            context.observer.tell(&finding);
            findings.push(finding);
            let file = self.spool_file()?;
            packed::spool(bytes, &file, stream.name(), watch)?;
            Ok(Some(FileStorage::of_spool(file, inner, context.budget)?))
        })?;
        if let Some(storage) = stream.storage() {
            storage.check_unchanged()?;
        }
        let sources: Vec<SourceFile> =
            stream.storage().map(|storage| target::source_file(storage.as_ref(), None)).into_iter().collect();
        if let Some(storage) = spooled {
            let made = self.copy_image(Arc::new(storage), findings, context)?;
            return Ok(Made { sources, ..made });
        }
        let Some((copied, length, mut place, writer)) = direct else {
            return Err(reformis_disk::Error::Interrupted.into());
        };
        if copied.size != length {
            findings.push(Finding::SizeRounded { disk: self.source_name(), size: length, rounded: copied.size });
        }
        let shape = Shape::new(Format::Raw, reformis_disk::Layout::Thin);
        let before = match stream.storage() {
            Some(storage) => Facts::of_stream(shape, stream.kind(), length, storage.as_ref()),
            None => Facts::of_pipe(shape, stream.kind(), length),
        };
        let after = self.end(&mut place, writer, &copied, context)?;
        Ok(Made { before, after, copied, sources, edits: Vec::new(), guest: None, verdict: None, place })
    }

    /// Reads `stream` as a step.
    fn visit<T>(
        &self,
        stream: &Stream,
        context: &Context<'_>,
        total: u64,
        mut look: impl FnMut(&mut (dyn Read + Send), Option<u64>, &Watch<'_>) -> Result<T>,
    ) -> Result<T> {
        let mut outcome = None;
        let as_is = self.options.from == Some(Format::Raw) && stream.storage().is_none();
        context.step(&self.step("unpacking"), total, |watch| {
            // What is read is counted, not what is made of it.
            let silent = Watch { progress: &|_| {}, ..*watch };
            stream.visit(&mut io::stdin(), watch.progress, as_is, &mut |bytes, len| {
                outcome = Some(look(bytes, len, &silent));
                Ok(())
            })
        })?;
        outcome.unwrap_or(Err(reformis_disk::Error::Interrupted.into()))
    }

    /// Raw bytes straight into the result; returns their number too.
    fn through(
        &self,
        bytes: &mut (dyn Read + Send),
        known: Option<u64>,
        watch: &Watch<'_>,
    ) -> Result<(Copied, u64, Place, Box<dyn Writer>)> {
        let (place, mut writer) = self.begin(known.map(|len| self.size(len)).transpose()?, Vec::new())?;
        let mut tail = Tail { stream: bytes, last: Vec::new(), len: 0 };
        let sizing = |len: u64| {
            self.size(len).map_err(|error| match error {
                Error::Disk(error) => error,
                other => reformis_disk::Error::Unwritable { path: self.result_name(), what: other.to_string() },
            })
        };
        let copied = pipeline::copy_forward(&mut tail, &self.source_name(), writer.as_mut(), &sizing, watch)?;
        if self.options.from.is_none() && format::is_footer(&tail.last) {
            return Err(Error::FooterAtEnd { path: self.source_name() });
        }
        Ok((copied, tail.len, place, writer))
    }

    /// What is inside the stream, by name: without the ending that says how it is packed. What comes from a pipe is raw
    /// unless it shows.
    fn inner_name(&self, stream: &Stream) -> String {
        if self.is_stdin() {
            return "stdin.raw".into();
        }
        packed::inner_name(stream.name())
    }

    /// A nameless file beside the result, which goes with this run, however it ends.
    fn spool_file(&self) -> Result<File> {
        let folder = if self.is_stdout() { std::env::temp_dir() } else { staging::parent(&self.options.result) };
        unpack::spool_file(&folder)
    }

    pub(super) fn receipt(
        &self,
        recast: &Recast,
        made: (Vec<SourceFile>, Vec<Edit>, Option<String>),
        started: Timestamp,
    ) -> Receipt {
        let (sources, edits, packed) = made;
        let absolute = |path: &Path| match path.to_str().filter(|text| self.wires.is_named(text)) {
            Some(named) => named.to_string(),
            None => target::absolute(&path.to_string_lossy()),
        };
        let pipe = |facts: Option<&Facts>| facts.map(DiskFacts::from);
        let disk = DiskRecord {
            id: self.source_name(),
            source: if self.is_stdin() { Vec::new() } else { vec![absolute(&self.options.source)] },
            packed: recast.before.compression.clone().filter(|_| !self.is_stdin()).or(packed),
            result: if self.is_stdout() { String::new() } else { absolute(&self.options.result) },
            before: Some(DiskFacts::from(&recast.before)),
            after: pipe(recast.after.as_ref()).unwrap_or_else(|| DiskFacts {
                shape: self.shape.to_string(),
                variant: "into a pipe".into(),
                ..DiskFacts::from(&recast.before)
            }),
            content_digest: recast.content_digest.clone(),
            edits,
        };
        Receipt {
            schema: receipt::SCHEMA,
            tool: TOOL.into(),
            kind: receipt::Kind::Recast,
            started,
            finished: Timestamp::now(),
            target: self.shown(),
            destination: String::new(),
            sources,
            disks: vec![disk],
            machine: None,
            verdict: recast.verdict.clone(),
            guest: recast.guest.clone(),
            findings: recast.findings.iter().map(Finding::record).collect(),
            cloud: None,
            lent: None,
            job: None,
            site: None,
            ahead: None,
        }
    }
}

/// Records of the files that were read for an image.
fn sources_of(storage: &Arc<dyn Storage>, image: &Image) -> Vec<SourceFile> {
    std::iter::once(storage).chain(&image.files).map(|file| target::source_file(file.as_ref(), None)).collect()
}

/// Keeps the last sector of what is read through it.
struct Tail<'a> {
    pub(super) stream: &'a mut (dyn Read + Send),
    last: Vec<u8>,
    len: u64,
}

impl Read for Tail<'_> {
    #[expect(clippy::indexing_slicing, reason = "cut to the buffer")]
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let len = self.stream.read(buf)?;
        self.len += len as u64;
        let sector = to_usize(reformis_disk::SECTOR);
        self.last.extend(&buf[len.saturating_sub(sector)..len]);
        self.last.drain(..self.last.len().saturating_sub(sector));
        Ok(len)
    }
}

/// Who may open the file at `path`, which may continue into an archive; anybody where there is none, as for a pipe.
fn access_of(path: &Path, wires: &Wires) -> Access {
    if Wires::is_link(path) || path.to_str().is_some_and(|text| wires.is_named(text)) {
        return Access::OWNER;
    }
    let file = path.ancestors().find_map(|path| std::fs::metadata(path).ok().filter(|metadata| !metadata.is_dir()));
    file.map_or(Access::ANYBODY, |metadata| Access::of(&metadata))
}

fn refuse_same_file(source: &Path, result: &Path) -> Result<()> {
    let place = |path: &Path| std::fs::metadata(path).ok().map(|metadata| (metadata.dev(), metadata.ino()));
    match place(source) {
        Some(there) if Some(there) == place(result) => Err(Error::SameFile { path: source.to_string_lossy().into() }),
        _ => Ok(()),
    }
}
