//! What comes from registries, as `nubrik pins` lists it.

use nubrik_answers::{FetchedArchives, ListedPinEvent};
use nubrik_lang::AddressPattern;
use nubrik_pins::{Pin, Registry, Shelf};
use nubrik_source::WsPath;

use super::{column, say};
use crate::arguments::Choice;
use crate::commands::{CommandResult, evaluate, open};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, outln};
use crate::ui::paint::Ink;
use crate::ui::text::padded;

/// Lists all that is pinned: what it is, why it is there, and whether any definition uses it.
pub fn list(console: Console, choice: &Choice) -> CommandResult<Exit> {
    let mut session = open(console, choice)?;
    let pins = session
        .pins()
        .map_err(|problem| say(console, Exit::Definitions, &problem))?;
    let evaluation = evaluate(
        console,
        &mut session,
        &[AddressPattern::below(&WsPath::root())],
    )?;
    let fetched = FetchedArchives::of(&evaluation.graph);
    let own = nubrik_session::Session::own_system();
    for (n, (registry, shelf)) in pins.shelves.iter().enumerate() {
        if n > 0 && !console.is_json() {
            outln!(console);
        }
        let width = column(shelf.pins.keys().map(String::len));
        let mut telling = PinListing {
            console,
            registry: *registry,
            shelf,
            fetched: &fetched,
            width,
            unused: 0,
        };
        telling.head();
        let (here, elsewhere): (Vec<&Pin>, Vec<&Pin>) = shelf
            .pins
            .values()
            .partition(|pin| pin.on.is_empty() || pin.on.contains(&own));
        here.into_iter().for_each(|pin| telling.tell(pin));
        if !elsewhere.is_empty() && !console.is_json() {
            outln!(console, "  and {} for other systems", elsewhere.len());
        }
        telling.tail();
    }
    if pins.shelves.is_empty() && !console.is_json() {
        outln!(
            console,
            "nothing is pinned; `nubrik pins add python NAME` pins something"
        );
    }
    Ok(Exit::Done)
}

struct PinListing<'a> {
    console: Console,
    registry: Registry,
    shelf: &'a Shelf,
    fetched: &'a FetchedArchives<'a>,
    /// Of names with their versions.
    width: usize,
    unused: usize,
}

impl PinListing<'_> {
    fn head(&self) {
        if !self.console.is_json() {
            let paint = self.console.paint(OutputStream::Output);
            outln!(
                self.console,
                "{}",
                paint.ink(Ink::Strong, self.registry.name())
            );
        }
    }

    fn tell(&mut self, pin: &Pin) {
        let listed = ListedPinEvent::of(self.registry, self.shelf, pin, self.fetched);
        self.unused += usize::from(listed.asked && !listed.used);
        if self.console.is_json() {
            return self.console.event(&listed);
        }
        let paint = self.console.paint(OutputStream::Output);
        let why = self.shelf.why(pin);
        let (label, ink) = if listed.used {
            ("used", Ink::Calm)
        } else {
            ("unused", Ink::Doubt)
        };
        outln!(
            self.console,
            "  {} {} {} {}",
            paint.ink(ink, &padded(label, 7)),
            padded(&format!("{} {}", pin.name, pin.version), self.width),
            padded(pin.licence.as_deref().unwrap_or("?"), 24),
            paint.ink(Ink::Faint, &why)
        );
    }

    fn tail(&self) {
        if self.unused > 0 && !self.console.is_json() {
            let paint = self.console.paint(OutputStream::Output);
            let text = format!(
                "no definition uses {} of what is asked for: `nubrik pins drop {} NAME`",
                self.unused, self.registry
            );
            outln!(self.console, "  {}", paint.ink(Ink::Mend, &text));
        }
    }
}
