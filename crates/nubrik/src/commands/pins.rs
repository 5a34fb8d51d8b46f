//! `nubrik pins`

mod listing;
mod looking;

use nubrik_answers::{PassedOverEvent, PinEvent};
use nubrik_confine::CancelSwitch;
use nubrik_diagnostic::Diagnostic;
use nubrik_pins::{
    Desk, DeskNews, Free, PINS_FILE, PinChange, PinMachine, PinProblem, PinWish, Pins, Registry,
    WishProblem, WishedPins, registry_of_word, resolve,
};
use nubrik_session::Session;
use nubrik_source::Sources;
use nubrik_wording::counted;

use super::{CommandResult, open, report, say_wrong};
use crate::arguments::{Choice, PinRequest, PinsWork};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, errln, outln};
use crate::ui::paint::Ink;
use crate::ui::text::padded;

/// Archives from this size on are named while they are fetched, in bytes.
const LARGE: u64 = 4 << 20;

/// Says that a release is not taken.
pub fn say_passed_over(console: Console, release: &str, needs: &str) {
    if console.is_json() {
        return console.event(&PassedOverEvent::of(release, needs));
    }
    let text =
        format!("{release} is passed over: it needs {needs}, which the registry does not have");
    errln!(
        console,
        "{}",
        console.paint(OutputStream::Error).ink(Ink::Faint, &text)
    );
}

pub fn pins(console: Console, choice: &Choice, work: Option<&PinsWork>) -> CommandResult<Exit> {
    let Some(wanted) = work else {
        return listing::list(console, choice);
    };
    let session = open(console, choice)?;
    let cancel = crate::interrupt::cancel_switch().map_err(|e| {
        say_wrong(
            console,
            Exit::Own,
            &format!("cannot listen for signals: {e}"),
            &[],
        )
    })?;
    let read = session.pins_text();
    let before = match (session.pins(), wanted) {
        // All versions are chosen again: what was pinned does not have to hold together.
        (Err(_), PinsWork::Update { name: None, .. }) => session.asked_of_pins(),
        (read, _) => read,
    };
    let before = before.map_err(|problem| say(console, Exit::Definitions, &problem))?;
    let work = PinWork {
        console,
        session: &session,
        cancel: &cancel,
        before,
        read,
    };
    match wanted {
        PinsWork::Add(request) => {
            let WishedPins { pins, free, added } = work.with_request(request)?;
            work.settle(pins, &free, added)
        }
        PinsWork::Drop { registry, name } => work.drop(registry, name),
        PinsWork::Update { name, registry } => work.update(name.as_deref(), registry.as_deref()),
        PinsWork::Settle => {
            work.has_pins()?;
            work.settle(work.before.clone(), &Free::Nothing, None)
        }
        PinsWork::Newer => work.newer(),
        PinsWork::Why { name, registry } => work.why(registry.as_deref(), name),
        PinsWork::Vendor { folder } => work.vendor(folder),
    }
}

/// How wide names with versions are written, so that what is beside them begins in one column:
/// unless one is longer than that is worth.
pub(super) fn column(lengths: impl Iterator<Item = usize>) -> usize {
    lengths.max().unwrap_or(0).clamp(32, 56)
}

/// Says what is wrong with a request for pins.
pub(super) fn say(console: Console, exit: Exit, problem: &PinProblem) -> Exit {
    let PinProblem {
        message,
        notes,
        mends,
    } = problem;
    let diagnostic = Diagnostic::error("pins", message.clone());
    let diagnostic = notes
        .iter()
        .fold(diagnostic, |d, note| d.note(note.clone()));
    let diagnostic = mends
        .iter()
        .fold(diagnostic, |d, mend| d.mend(mend.clone()));
    report(console, &[diagnostic], &Sources::default());
    exit
}

/// One run of the command.
struct PinWork<'a> {
    console: Console,
    session: &'a Session,
    cancel: &'a CancelSwitch,
    before: Pins,
    /// The text that says so.
    read: Option<Vec<u8>>,
}

impl PinWork<'_> {
    fn fail(&self, problem: &PinProblem) -> Exit {
        if self.cancel.is_thrown() {
            return Exit::Interrupted;
        }
        say(self.console, Exit::Failed, problem)
    }

    fn wrong(&self, message: String, mends: &[&str]) -> Exit {
        say_wrong(self.console, Exit::Usage, &message, mends)
    }

    fn with_desk<T>(
        &self,
        then: impl FnOnce(&Desk<'_>) -> Result<T, PinProblem>,
    ) -> CommandResult<T> {
        let console = self.console;
        let faint = |line: &str| {
            errln!(
                console,
                "{}",
                console.paint(OutputStream::Error).ink(Ink::Faint, line)
            )
        };
        let tell = |news: DeskNews| match news {
            DeskNews::PassedOver { release, needs } => say_passed_over(console, &release, &needs),
            DeskNews::Fetching {
                what,
                size: Some(size),
            } if size >= LARGE && !console.is_json() => {
                faint(&format!("fetching {what}, {}", nubrik_wording::size(size)));
            }
            DeskNews::Fetching { .. } | DeskNews::Asked { .. } => {}
        };
        let stopped = || self.cancel.is_thrown();
        then(&self.session.desk(&self.before, &stopped, &tell))
            .map_err(|problem| self.fail(&problem))
    }

    /// Says that a wish cannot be met.
    fn refuse(&self, problem: PinProblem) -> Exit {
        let mends: Vec<&str> = problem.mends.iter().map(String::as_str).collect();
        self.wrong(problem.message.clone(), &mends)
    }

    /// The registry of a name that was given to a subcommand.
    fn registry(&self, name: &str, to: &str) -> CommandResult<Registry> {
        registry_of_word(name, to).map_err(|problem| self.refuse(problem))
    }

    /// Refuses where nothing is pinned.
    fn has_pins(&self) -> CommandResult<()> {
        if !self.before.shelves.is_empty() {
            return Ok(());
        }
        let mends = ["nubrik pins add python NAME", "nubrik pins add rust NAME"];
        Err(self.wrong("nothing is pinned yet".to_owned(), &mends))
    }

    /// Removes a package, and what nothing else needs.
    fn drop(&self, registry: &str, name: &str) -> CommandResult<Exit> {
        let console = self.console;
        let registry = self.registry(registry, "drop")?;
        let pins = self.before.without(registry, name);
        let pins = pins.map_err(|problem| say(console, Exit::Usage, &problem))?;
        if !pins.shelves.contains_key(&registry) {
            return self.write(&pins, None);
        }
        // Versions stay as they are, but features that nobody wants any more go.
        let ended = self.settle(pins, &Free::Nothing, None)?;
        let now = self
            .session
            .pins()
            .map_err(|problem| say(console, Exit::Definitions, &problem))?;
        if let Some(shelf) = now.shelves.get(&registry)
            && let Some(pin) = shelf
                .pins
                .values()
                .find(|pin| pin.name == (registry.description().spelled)(name))
            && !console.is_json()
        {
            outln!(console, "{} stays: {}", pin.id(), shelf.why(pin));
        }
        Ok(ended)
    }

    /// Takes the newest versions that the requirements allow: of everything, of a registry, or of a
    /// package.
    fn update(&self, name: Option<&str>, registry: Option<&str>) -> CommandResult<Exit> {
        let only = registry
            .map(|registry| self.registry(registry, "update --registry"))
            .transpose()?;
        let names = name
            .map(|name| self.before.names_of(name, only))
            .transpose();
        let names = names.map_err(|problem| self.refuse(problem))?;
        self.has_pins()?;
        let Some(only) = only else {
            let free = names.map_or(Free::Everything, Free::Names);
            return self.settle(self.before.clone(), &free, None);
        };
        let mut pins = self.before.clone();
        let Some(shelf) = pins.shelves.get(&only) else {
            let mend = format!("nubrik pins add {only} NAME");
            return Err(self.wrong(format!("nothing of {only} is pinned"), &[&mend]));
        };
        let all = || shelf.pins.values().map(|pin| pin.name.clone()).collect();
        let free = Free::Names(names.unwrap_or_else(all));
        let settled = self.with_desk(|desk| resolve(desk, only, shelf, &free))?;
        pins.shelves.insert(only, settled);
        self.write(&pins, None)
    }

    /// What is to be pinned, with what the command line adds.
    fn with_request(&self, request: &PinRequest) -> CommandResult<WishedPins> {
        let registry = self.registry(&request.registry, "add")?;
        let wish = PinWish {
            name: request.name.as_deref(),
            requirement: &request.requirement,
            features: &request.features,
            bare: request.bare,
            file: request.file.as_deref(),
            systems: &request.system,
            python: request.python.as_deref(),
        };
        let facts_of = |registry: Registry, system: &str| self.session.facts_of(registry, system);
        let machine = PinMachine {
            system: &Session::own_system(),
            facts_of: &facts_of,
        };
        wish.added_to(&self.before, registry, &machine)
            .map_err(|problem| match problem {
                WishProblem::Meaningless(problem) => self.refuse(problem),
                WishProblem::Machine(problem) => {
                    let mends: Vec<&str> = problem.mends.iter().map(String::as_str).collect();
                    say_wrong(self.console, Exit::Machine, &problem.message, &mends)
                }
            })
    }

    /// Chooses versions, and writes them.
    fn settle(
        &self,
        mut pins: Pins,
        free: &Free,
        added: Option<(Registry, String)>,
    ) -> CommandResult<Exit> {
        let meant: Vec<Registry> = match &added {
            Some((registry, _)) => vec![*registry],
            None => pins.shelves.keys().copied().collect(),
        };
        for registry in meant {
            let Some(shelf) = pins.shelves.get(&registry) else {
                continue;
            };
            let settled = self.with_desk(|desk| resolve(desk, registry, shelf, free))?;
            pins.shelves.insert(registry, settled);
        }
        self.write(&pins, added)
    }

    /// Writes what is pinned, and says what differs.
    fn write(&self, pins: &Pins, added: Option<(Registry, String)>) -> CommandResult<Exit> {
        let changed = self
            .session
            .write_pins(pins, self.read.as_deref())
            .map_err(|problem| self.fail(&problem))?;
        let changes = pins.changes_since(&self.before);
        self.tell(&changes);
        let counted_as = |word: &str| {
            changes
                .iter()
                .filter(|change| change.word() == word)
                .count()
        };
        if self.console.is_json() {
            return Ok(Exit::Done);
        }
        let total: usize = pins.shelves.values().map(|shelf| shelf.pins.len()).sum();
        let said = ["new", "changed", "gone"].map(|word| (counted_as(word), word));
        let said: Vec<String> = said
            .iter()
            .filter(|(n, _)| *n > 0)
            .map(|(n, word)| format!("{n} {word}"))
            .collect();
        let said = match (said.is_empty(), changed) {
            (false, _) => said.join(", "),
            (true, true) => "written again".to_owned(),
            (true, false) => "nothing changed".to_owned(),
        };
        let paint = self.console.paint(OutputStream::Output);
        outln!(
            self.console,
            "{}",
            paint.ink(
                Ink::Strong,
                &format!("{PINS_FILE}: {}, {said}", counted(total, "pin"))
            )
        );
        if let Some((registry, name)) = added {
            let kit = registry.description().kit;
            let words = format!("use \"nub:{kit}\" as {kit}   and   {kit}.pinned(\"{name}\")");
            outln!(self.console, "{}", paint.ink(Ink::Faint, &words));
        }
        Ok(Exit::Done)
    }

    /// Says which pins differ: the names of a registry in one column.
    fn tell(&self, changes: &[PinChange<'_>]) {
        let length = |change: &PinChange<'_>| {
            let versions = change.version.into_iter().chain(change.before);
            change.pin.name.len() + 1 + versions.map(str::len).max().unwrap_or(0)
        };
        for of_registry in changes.chunk_by(|one, other| one.registry == other.registry) {
            let width = column(of_registry.iter().map(length));
            of_registry
                .iter()
                .for_each(|change| self.tell_change(change, width));
        }
    }

    fn tell_change(&self, change: &PinChange<'_>, width: usize) {
        let PinChange {
            version,
            before,
            pin,
            shelf,
            ..
        } = *change;
        let (name, word) = (pin.name.as_str(), change.word());
        if self.console.is_json() {
            return self.console.event(&PinEvent::of(change));
        }
        let paint = self.console.paint(OutputStream::Output);
        let (ink, what) = match (version, before) {
            (Some(version), None) => (Ink::Busy, format!("{name} {version}")),
            (Some(version), Some(before)) => (Ink::Found, format!("{name} {before} → {version}")),
            (_, before) => (Ink::Faint, format!("{name} {}", before.unwrap_or_default())),
        };
        let why = match version {
            None => "nothing needs it any more".to_owned(),
            Some(_) => shelf.why(pin),
        };
        let on = if pin.on.is_empty() {
            String::new()
        } else {
            format!("   on {}", pin.on.join(", "))
        };
        let label = paint.ink(ink, &padded(word, 8));
        outln!(
            self.console,
            "{label} {} {}{on}",
            padded(&what, width),
            paint.ink(Ink::Faint, &why)
        );
    }
}
