//! Writing answers.

use std::io::{self, Read, Write};

use serde_json::Value;

/// An answer without a file.
pub(crate) struct Answer {
    pub(crate) status: u16,
    pub(crate) headers: Vec<(&'static str, String)>,
    pub(crate) body: Value,
}

impl Answer {
    /// `body` with a status.
    pub(crate) fn new(status: u16, body: Value) -> Self {
        Self { status, headers: Vec::new(), body }
    }

    /// An error, as a sentence with a code.
    pub(crate) fn error(status: u16, code: &str, sentence: &str) -> Self {
        Self::new(status, serde_json::json!({ "error": { "code": code, "sentence": sentence } }))
    }

    /// The same with a header more.
    pub(crate) fn with(mut self, name: &'static str, value: impl Into<String>) -> Self {
        self.headers.push((name, value.into()));
        self
    }

    /// Writes it.
    pub(crate) fn write(&self, output: &mut impl Write) -> io::Result<()> {
        let body = if self.body.is_null() { String::new() } else { self.body.to_string() };
        let mut head = format!("HTTP/1.1 {} -\r\nContent-Length: {}\r\n", self.status, body.len());
        if !body.is_empty() {
            head += "Content-Type: application/json\r\n";
        }
        for (name, value) in &self.headers {
            head += &format!("{name}: {value}\r\n");
        }
        output.write_all(format!("{head}\r\n{body}").as_bytes())?;
        output.flush()
    }
}

/// How the bytes of a file go out.
pub(crate) struct Sending {
    pub(crate) status: u16,
    pub(crate) headers: Vec<String>,
    /// Bytes.
    pub(crate) len: u64,
    pub(crate) chunked: bool,
    /// The connection is cut after so many bytes.
    pub(crate) cut: Option<u64>,
}

/// Sends what `file` gives; whether the connection is whole afterwards.
pub(crate) fn send(output: &mut impl Write, mut file: impl Read, sending: &Sending) -> io::Result<bool> {
    let mut head = format!("HTTP/1.1 {} -\r\n", sending.status);
    head += &match sending.chunked {
        true => "Transfer-Encoding: chunked\r\n".into(),
        false => format!("Content-Length: {}\r\n", sending.len),
    };
    sending.headers.iter().for_each(|header| head += &format!("{header}\r\n"));
    output.write_all(format!("{head}\r\n").as_bytes())?;
    let mut piece = vec![0; 64 << 10];
    let mut left = sending.len;
    let mut until_cut = sending.cut.unwrap_or(u64::MAX);
    while left > 0 {
        let most = left.min(piece.len() as u64).min(until_cut) as usize;
        if most == 0 {
            output.flush()?;
            return Ok(false);
        }
        file.read_exact(&mut piece[..most])?;
        if sending.chunked {
            write!(output, "{most:x}\r\n")?;
        }
        output.write_all(&piece[..most])?;
        if sending.chunked {
            output.write_all(b"\r\n")?;
        }
        left -= most as u64;
        until_cut -= most as u64;
    }
    if sending.chunked {
        output.write_all(b"0\r\n\r\n")?;
    }
    output.flush()?;
    Ok(true)
}
