//! What requests of commands that only read resulted in: the evaluation itself beside a seal on what it looked at.
//!
//! They are written without the workspace's lock. Each file is put in its place whole, and the seal names the evaluation that it
//! belongs to by its id: of two who write at once, what fits together counts, and nothing else.

use std::io;

use nubrik_bytes::{Decoder, Digest, Frame, Magic};
use nubrik_confine::map_file;
use nubrik_disk::Below;
use nubrik_lang::Evaluation;

use crate::journal::FileProblem;
use crate::seal::{NewSeal, Seal};
use crate::seals::{RequestFiles, forget_old, write_seal};

const MAGIC: Magic = *b"nbread 2";

/// What is kept of reading commands.
const READS: RequestFiles =
    RequestFiles { folder: "reads", endings: &["", ".log", EVALUATION], count: 8, size: 256 << 20 };

/// Where the evaluation of a seal lies.
const EVALUATION: &str = ".evaluation";

/// Where the result of a request is, which a digest names.
pub fn read_path(request: &Digest) -> String {
    READS.path(request)
}

/// Keeps an evaluation, with a seal on what it looked at, whose graph is set to it.
///
/// # Errors
/// When that is not possible, and which file is at fault.
pub fn keep_read(
    own: &Below,
    path: &str,
    evaluation: &Evaluation,
    mut seal: NewSeal,
) -> Result<(), FileProblem> {
    let at = format!("{path}{EVALUATION}");
    let mut out = Frame::begin(MAGIC);
    evaluation.encode(&mut out);
    let bytes = Frame::end(out);
    seal.graph = Frame::id_in(MAGIC, &bytes)
        .ok_or_else(|| (at.clone(), io::Error::other("it cannot be written as bytes")))?;
    forget_old(own, &READS);
    own.write_whole(&at, &bytes).map_err(|e| (at, e))?;
    write_seal(own, path, &seal)
}

/// The evaluation that belongs to a seal, read by some threads; `None` where it is damaged, or another one is there.
pub fn kept_read(own: &Below, path: &str, seal: &Seal, threads: usize) -> Option<Evaluation> {
    let file = map_file(&own.open_to_read(&format!("{path}{EVALUATION}")).ok()?).ok()?;
    let bytes = file.as_ref();
    let frame = Frame::of(MAGIC, bytes).ok().filter(|frame| frame.id == seal.graph)?;
    Evaluation::decode(&mut Decoder::new(&bytes[frame.head]), threads).ok()
}
