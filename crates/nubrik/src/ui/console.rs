//! The one way out: everything that a command prints goes through a [`Console`]. It knows for whom
//! that is, how wide the terminal is, and whether anyone still reads. What could steer a terminal
//! is made visible, and whoever no longer reads ends the work in order.

use std::io::{self, Write};
use std::sync::atomic::{AtomicU8, Ordering};

use serde::Serialize;

use super::json_text;
use super::paint::Paint;
use super::visible::visible;
use crate::arguments::Face;
use crate::interrupt;

/// Where lines go.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum OutputStream {
    Output,
    Error,
}

/// Where a command's output goes, and for whom.
#[derive(Clone, Copy)]
pub struct Console {
    face: Face,
}

impl Console {
    pub fn new(face: Face) -> Console {
        Console { face }
    }

    /// Whether output is for programs: one JSON value a line.
    pub fn is_json(self) -> bool {
        self.face.json
    }

    /// What a stream can show to people.
    pub fn paint(self, stream: OutputStream) -> Paint {
        let plain = self.face.plain || self.face.json;
        match stream {
            OutputStream::Output => Paint::for_stdout(plain, self.face.color),
            OutputStream::Error => Paint::for_stderr(plain, self.face.color),
        }
    }

    /// Prints a value for programs.
    pub fn event(self, value: &impl Serialize) {
        if let Some(line) = json_text::line(value) {
            self.raw(OutputStream::Output, &line);
        }
    }

    /// Prints a line.
    pub fn line(self, stream: OutputStream, line: &str) {
        write(stream, &format!("{}\n", visible(line)));
    }

    /// Prints a text.
    pub fn text(self, stream: OutputStream, text: &str) {
        write(stream, &visible(text));
    }

    /// Prints what is meant for a program, moves the cursor, or is harmless already: as it is.
    pub fn raw(self, stream: OutputStream, text: &str) {
        write(stream, text);
    }
}

/// Prints a line to standard output.
macro_rules! outln {
    ($console:expr) => { $console.line($crate::ui::console::OutputStream::Output, "") };
    ($console:expr, $($arg:tt)*) => { $console.line($crate::ui::console::OutputStream::Output, &format!($($arg)*)) };
}

/// Prints to standard output.
macro_rules! out {
    ($console:expr, $($arg:tt)*) => { $console.text($crate::ui::console::OutputStream::Output, &format!($($arg)*)) };
}

/// Prints a line to standard error.
macro_rules! errln {
    ($console:expr) => { $console.line($crate::ui::console::OutputStream::Error, "") };
    ($console:expr, $($arg:tt)*) => { $console.line($crate::ui::console::OutputStream::Error, &format!($($arg)*)) };
}

/// Prints to standard error.
macro_rules! err {
    ($console:expr, $($arg:tt)*) => { $console.text($crate::ui::console::OutputStream::Error, &format!($($arg)*)) };
}

pub(crate) use {err, errln, out, outln};

const OPEN: u8 = 0;
const NOBODY_READS: u8 = 1;
const BROKEN: u8 = 2;

/// What became of standard output.
static OUTPUT: AtomicU8 = AtomicU8::new(OPEN);

fn write(stream: OutputStream, text: &str) {
    let bytes = text.as_bytes();
    match stream {
        OutputStream::Error => {
            // There is nowhere to say that this fails.
            let _ = io::stderr().lock().write_all(bytes);
        }
        OutputStream::Output if OUTPUT.load(Ordering::Relaxed) != OPEN => {}
        OutputStream::Output => {
            let mut out = io::stdout().lock();
            if let Err(e) = out.write_all(bytes).and_then(|()| out.flush()) {
                let why = if e.kind() == io::ErrorKind::BrokenPipe {
                    NOBODY_READS
                } else {
                    BROKEN
                };
                OUTPUT.store(why, Ordering::Relaxed);
                // Steps end, what was done is remembered, services stop.
                interrupt::stop();
            }
        }
    }
}

/// The exit code where standard output could not be written: a reader that closed it has not seen
/// all, and a user who has a full disk there does not know what is missing.
pub fn exit_code() -> Option<u8> {
    match OUTPUT.load(Ordering::Relaxed) {
        OPEN => None,
        // As a program ends that the signal for this ends.
        NOBODY_READS => Some(128 + 13),
        _ => Some(5),
    }
}
