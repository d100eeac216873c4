//! The beginning of a conversation: which export, and what is known of it.

use reformis_disk::error::WireKind;

use super::proto::{
    ALLOCATION, BITMAP, Duplex, FIXED_NEWSTYLE, GREETING, NO_ZEROES, OPTION, OPTION_REPLY, answer, bytes_of, info,
    option, put, u16_of, u32_of, u64_of,
};
use crate::fault::Fault;

/// The longest reply to an option, in bytes.
const MOST: u32 = 64 << 10;
/// The most replies to one option: no server has more exports.
const MANY: usize = 4096;

/// What is known of an export.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(crate) struct Facts {
    /// Bytes.
    pub(crate) size: u64,
    /// Whether replies may come in chunks.
    pub(crate) is_structured: bool,
    /// The number of the map of holes.
    pub(crate) allocation: Option<u32>,
    /// The number of the map of what was written.
    pub(crate) bitmap: Option<u32>,
    /// The least and the most bytes of a request.
    pub(crate) block: (u32, u32),
}

/// Reads the server's greeting and answers it; its flags.
pub(crate) fn greet(stream: &mut (impl Duplex + ?Sized)) -> Result<u16, Fault> {
    if u64_of(stream)? != GREETING {
        return Err(Fault::protocol("no NBD server answers there"));
    }
    if u64_of(stream)? != OPTION {
        return Err(Fault::Fatal(WireKind::Refused, "it speaks the old form of NBD, without options".into()));
    }
    let flags = u16_of(stream)?;
    if flags & FIXED_NEWSTYLE == 0 {
        return Err(Fault::Fatal(WireKind::Refused, "it speaks a form of NBD without replies to options".into()));
    }
    let ours = u32::from(flags & (FIXED_NEWSTYLE | NO_ZEROES));
    put(stream, &ours.to_be_bytes())?;
    Ok(flags)
}

/// Sends an option.
fn ask(stream: &mut (impl Duplex + ?Sized), option: u32, data: &[u8]) -> Result<(), Fault> {
    let len = u32::try_from(data.len()).unwrap_or(u32::MAX);
    let mut bytes = OPTION.to_be_bytes().to_vec();
    bytes.extend(option.to_be_bytes());
    bytes.extend(len.to_be_bytes());
    bytes.extend(data);
    put(stream, &bytes)
}

/// One reply to `option`: its kind and what it holds.
fn reply(stream: &mut (impl Duplex + ?Sized), option: u32) -> Result<(u32, Vec<u8>), Fault> {
    if u64_of(stream)? != OPTION_REPLY {
        return Err(Fault::protocol("a reply to an option does not begin like one"));
    }
    if u32_of(stream)? != option {
        return Err(Fault::protocol("a reply is to another option than was asked"));
    }
    let kind = u32_of(stream)?;
    let len = u32_of(stream)?;
    Ok((kind, bytes_of(stream, len, MOST, "a reply to an option")?))
}

/// What an error among the replies means.
fn refusal(kind: u32, words: &[u8]) -> Fault {
    let words = String::from_utf8_lossy(words);
    let words = if words.is_empty() { String::new() } else { format!(": {words}") };
    match kind {
        answer::ERR_UNKNOWN => Fault::Fatal(WireKind::Absent, "it has no export of this name".into()),
        answer::ERR_TLS_REQD => Fault::Fatal(WireKind::Denied, "it wants TLS: the link begins with nbds://".into()),
        answer::ERR_POLICY => Fault::Fatal(WireKind::Denied, format!("it does not let us in{words}")),
        kind => Fault::Fatal(WireKind::Refused, format!("it refuses (error {}){words}", kind & !answer::ERROR)),
    }
}

/// Asks for TLS.
pub(crate) fn start_tls(stream: &mut (impl Duplex + ?Sized)) -> Result<(), Fault> {
    ask(stream, option::STARTTLS, &[])?;
    match reply(stream, option::STARTTLS)? {
        (answer::ACK, _) => Ok(()),
        (kind, _) if kind & answer::ERROR != 0 => Err(Fault::Fatal(WireKind::Refused, "it has no TLS".into())),
        _ => Err(Fault::protocol("it answers an option with what is no answer")),
    }
}

/// The names of its exports.
pub(crate) fn exports(stream: &mut (impl Duplex + ?Sized)) -> Result<Vec<String>, Fault> {
    ask(stream, option::LIST, &[])?;
    let mut names = Vec::new();
    for _ in 0..MANY {
        match reply(stream, option::LIST)? {
            (answer::ACK, _) => {
                ask(stream, option::ABORT, &[]).ok();
                return Ok(names);
            }
            (answer::SERVER, data) => {
                let (len, rest) = data.split_first_chunk().unwrap_or((&[0; 4], &[]));
                let name = rest.get(..u32::from_be_bytes(*len) as usize);
                let name = name.ok_or_else(|| Fault::protocol("the name of an export ends early"))?;
                names.push(String::from_utf8_lossy(name).into_owned());
            }
            (kind, words) if kind & answer::ERROR != 0 => return Err(refusal(kind, &words)),
            _ => return Err(Fault::protocol("it answers an option with what is no answer")),
        }
    }
    Err(Fault::protocol("its list of exports has no end"))
}

/// Chooses the export `name`, with its maps: of holes, and of what was written, where `bitmap` names one.
pub(crate) fn choose(
    stream: &mut (impl Duplex + ?Sized),
    _flags: u16,
    name: &str,
    bitmap: Option<&str>,
) -> Result<Facts, Fault> {
    // Blocks of unknown size are read as the protocol's document advises.
    let mut facts = Facts { block: (1, 32 << 20), ..Facts::default() };
    ask(stream, option::STRUCTURED_REPLY, &[])?;
    facts.is_structured = match reply(stream, option::STRUCTURED_REPLY)? {
        (answer::ACK, _) => true,
        (kind @ (answer::ERR_TLS_REQD | answer::ERR_POLICY), words) => return Err(refusal(kind, &words)),
        (kind, _) if kind & answer::ERROR != 0 => false,
        _ => return Err(Fault::protocol("it answers an option with what is no answer")),
    };
    let whole = |name: &str| {
        let mut bytes = u32::try_from(name.len()).unwrap_or(u32::MAX).to_be_bytes().to_vec();
        bytes.extend(name.as_bytes());
        bytes
    };
    if facts.is_structured {
        let bitmap = bitmap.map(|name| format!("{BITMAP}{name}"));
        maps(stream, name, bitmap.as_deref(), &whole, &mut facts)?;
        if let (Some(name), None) = (bitmap, facts.bitmap) {
            return Err(Fault::Fatal(WireKind::Absent, format!("it has no map called {name}")));
        }
    } else if bitmap.is_some() {
        return Err(Fault::Fatal(WireKind::Refused, "it has no maps".into()));
    }
    let mut data = whole(name);
    data.extend(1u16.to_be_bytes());
    data.extend(info::BLOCK_SIZE.to_be_bytes());
    ask(stream, option::GO, &data)?;
    let mut size = None;
    for _ in 0..MANY {
        match reply(stream, option::GO)? {
            (answer::ACK, _) => {
                facts.size = size.ok_or_else(|| Fault::protocol("it does not say how large the export is"))?;
                return Ok(facts);
            }
            (answer::INFO, data) => match &data[..] {
                [0, 0, rest @ ..] if info::EXPORT == 0 => {
                    let (bytes, _) =
                        rest.split_first_chunk().ok_or_else(|| Fault::protocol("the size of the export ends early"))?;
                    size = Some(u64::from_be_bytes(*bytes)).filter(|size| *size <= 1 << 62);
                }
                [0, 3, a, b, c, d, _, _, _, _, e, f, g, h, ..] => {
                    let (least, most) = (u32::from_be_bytes([*a, *b, *c, *d]), u32::from_be_bytes([*e, *f, *g, *h]));
                    if !least.is_power_of_two() || least > 64 << 10 || most < least {
                        return Err(Fault::protocol("the sizes of its blocks are not sound"));
                    }
                    facts.block = (least, most.min(32 << 20));
                }
                // What else is told was not asked for.
                _ => {}
            },
            (kind, words) if kind & answer::ERROR != 0 => return Err(refusal(kind, &words)),
            _ => return Err(Fault::protocol("it answers an option with what is no answer")),
        }
    }
    Err(Fault::protocol("what it says of the export has no end"))
}

/// Asks for the maps of `name`, and notes their numbers.
fn maps(
    stream: &mut (impl Duplex + ?Sized),
    name: &str,
    bitmap: Option<&str>,
    whole: &dyn Fn(&str) -> Vec<u8>,
    facts: &mut Facts,
) -> Result<(), Fault> {
    let wanted: Vec<&str> = std::iter::once(ALLOCATION).chain(bitmap).collect();
    let mut data = whole(name);
    data.extend(u32::try_from(wanted.len()).unwrap_or(0).to_be_bytes());
    wanted.iter().for_each(|map| data.extend(whole(map)));
    ask(stream, option::SET_META_CONTEXT, &data)?;
    for _ in 0..MANY {
        match reply(stream, option::SET_META_CONTEXT)? {
            (answer::ACK, _) => return Ok(()),
            (answer::META_CONTEXT, data) => {
                let (number, map) = data.split_first_chunk().unwrap_or((&[0; 4], &[]));
                let number = Some(u32::from_be_bytes(*number));
                if map == ALLOCATION.as_bytes() {
                    facts.allocation = number;
                } else if bitmap.is_some_and(|bitmap| map == bitmap.as_bytes()) {
                    facts.bitmap = number;
                }
            }
            (kind @ (answer::ERR_UNKNOWN | answer::ERR_TLS_REQD | answer::ERR_POLICY), words) => {
                return Err(refusal(kind, &words));
            }
            // A server without maps.
            (kind, _) if kind & answer::ERROR != 0 => return Ok(()),
            _ => return Err(Fault::protocol("it answers an option with what is no answer")),
        }
    }
    Err(Fault::protocol("its list of maps has no end"))
}
