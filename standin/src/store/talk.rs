//! What both kinds of stores do with a connection: requests are read with their bodies, and go wrong on demand.

use std::{
    io::{self, BufReader, BufWriter, Read},
    net::TcpStream,
    sync::Mutex,
    time::Duration,
};

use super::{kept::Faults, refusal::Refusal};
use crate::{
    host::request::{Request, read_head},
    listen::{lock, takes},
};

/// What a connection is told, and what is noted of it.
pub(super) struct Talk<'a> {
    /// Every request with all its headers, so that a test sees which secrets came here.
    pub(super) log: &'a Mutex<Vec<String>>,
    pub(super) faults: &'a Mutex<Faults>,
    /// The longest body.
    pub(super) most: u64,
    /// The store's word for that it is busy.
    pub(super) busy: &'static str,
}

impl Talk<'_> {
    /// Talks until the other end has no more to ask, or something goes wrong: `answer` does what a request asks for, and `write` sends
    /// that.
    pub(super) fn with<A>(
        &self,
        stream: TcpStream,
        answer: impl Fn(&Request) -> Result<A, Refusal>,
        write: impl Fn(&Request, Result<A, Refusal>, &mut BufWriter<TcpStream>) -> io::Result<()>,
    ) -> io::Result<()> {
        stream.set_nodelay(true)?;
        stream.set_read_timeout(Some(Duration::from_secs(120)))?;
        let (mut input, mut output) =
            (BufReader::with_capacity(128 << 10, stream.try_clone()?), BufWriter::with_capacity(128 << 10, stream));
        while let Some(mut request) = read_head(&mut input) {
            lock(self.log).push(request.line());
            let len = request.length().filter(|len| *len <= self.most).ok_or(io::ErrorKind::InvalidData)?;
            let cut = lock(self.faults).cut;
            if let Some((after, times)) = cut.filter(|(after, times)| *times > 0 && *after < len) {
                io::copy(&mut input.by_ref().take(after), &mut io::sink())?;
                lock(self.faults).cut = Some((after, times - 1));
                return Ok(());
            }
            request.body = vec![0; len as usize];
            input.read_exact(&mut request.body)?;
            let is_busy = takes(&mut lock(self.faults).busy);
            let said = if is_busy { Err(Refusal::new(503, self.busy)) } else { answer(&request) };
            if takes(&mut lock(self.faults).lost) {
                return Ok(());
            }
            write(&request, said, &mut output)?;
        }
        Ok(())
    }
}
