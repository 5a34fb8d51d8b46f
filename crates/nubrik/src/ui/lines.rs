//! A build's events as lines that stay, where nothing can move.

use nubrik_engine::{Event, Listener};

use super::console::{Console, OutputStream};
use super::telling::Telling;

/// Shows a build line by line.
pub struct Lines<'g> {
    telling: Telling<'g>,
    console: Console,
    stream: OutputStream,
}

impl<'g> Lines<'g> {
    pub fn new(telling: Telling<'g>, console: Console, stream: OutputStream) -> Lines<'g> {
        Lines {
            telling,
            console,
            stream,
        }
    }

    /// Says what was kept back.
    pub fn end(&self) {
        self.console.text(self.stream, &self.telling.at_the_end());
    }
}

impl Listener for Lines<'_> {
    fn hear(&self, event: &Event) {
        if let Some(text) = self.telling.of(event) {
            self.console.text(self.stream, &text);
        }
    }
}
