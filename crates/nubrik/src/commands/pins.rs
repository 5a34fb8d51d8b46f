//! `nubrik pins`

mod listing;
mod looking;

use std::collections::{BTreeMap, BTreeSet};

use nubrik_confine::CancelSwitch;
use nubrik_diagnostic::{Diagnostic, nearest};
use nubrik_pins::{
    ASKED, AskedPackage, Desk, DeskNews, Free, PINS_FILE, Pin, PinProblem, Pins, Registry, Shelf, pin_id,
    resolve,
};
use nubrik_session::Session;
use nubrik_source::Sources;
use nubrik_wording::counted;
use serde::Serialize;

use super::{CommandResult, open, report, say_wrong};
use crate::arguments::{Choice, PinRequest, PinsWork};
use crate::exit::Exit;
use crate::ui::console::{Console, OutputStream, errln, outln};
use crate::ui::paint::Ink;
use crate::ui::text::padded;

/// Archives from this size on are named while they are fetched, in bytes.
const LARGE: u64 = 4 << 20;

/// A pin that is new, another one, or gone.
#[derive(Serialize)]
struct PinEvent<'a> {
    event: &'static str,
    registry: &'static str,
    name: &'a str,
    version: Option<&'a str>,
    before: Option<&'a str>,
    change: &'static str,
    wanted_by: &'a [String],
}

/// A release that is not taken, since its registry lacks something that it needs.
#[derive(Serialize)]
struct PassedOverEvent<'a> {
    event: &'static str,
    release: &'a str,
    needs: &'a str,
}

/// Says that a release is not taken.
pub fn say_passed_over(console: Console, release: &str, needs: &str) {
    if console.is_json() {
        return console.event(&PassedOverEvent { event: "passed_over", release, needs });
    }
    let text = format!("{release} is passed over: it needs {needs}, which the registry does not have");
    errln!(console, "{}", console.paint(OutputStream::Error).ink(Ink::Faint, &text));
}

pub fn pins(console: Console, choice: &Choice, work: Option<&PinsWork>) -> CommandResult<Exit> {
    let Some(wanted) = work else { return listing::list(console, choice) };
    let session = open(console, choice)?;
    let cancel = crate::interrupt::cancel_switch()
        .map_err(|e| say_wrong(console, Exit::Own, &format!("cannot listen for signals: {e}"), &[]))?;
    let read = session.pins_text();
    let before = match (session.pins(), wanted) {
        // All versions are chosen again: what was pinned does not have to hold together.
        (Err(_), PinsWork::Update { name: None, .. }) => session.asked_of_pins(),
        (read, _) => read,
    };
    let before = before.map_err(|problem| say(console, Exit::Definitions, &problem))?;
    let work = PinWork { console, session: &session, cancel: &cancel, before, read };
    match wanted {
        PinsWork::Add(request) => {
            let (pins, free, added) = work.with_request(request)?;
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

/// How wide names with versions are written, so that what is beside them begins in one column: unless one is longer than
/// that is worth.
pub(super) fn column(lengths: impl Iterator<Item = usize>) -> usize {
    lengths.max().unwrap_or(0).clamp(32, 56)
}

/// Says what is wrong with a request for pins.
pub(super) fn say(console: Console, exit: Exit, problem: &PinProblem) -> Exit {
    let PinProblem { message, notes, mends } = problem;
    let diagnostic = Diagnostic::error("pins", message.clone());
    let diagnostic = notes.iter().fold(diagnostic, |d, note| d.note(note.clone()));
    let diagnostic = mends.iter().fold(diagnostic, |d, mend| d.mend(mend.clone()));
    report(console, &[diagnostic], &Sources::default());
    exit
}

/// What is to be pinned: with what the command line adds, which versions may change, and the name that is new.
type Wish = (Pins, Free, Option<(Registry, String)>);

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

    fn with_desk<T>(&self, then: impl FnOnce(&Desk<'_>) -> Result<T, PinProblem>) -> CommandResult<T> {
        let console = self.console;
        let faint =
            |line: &str| errln!(console, "{}", console.paint(OutputStream::Error).ink(Ink::Faint, line));
        let tell = |news: DeskNews| match news {
            DeskNews::PassedOver { release, needs } => say_passed_over(console, &release, &needs),
            DeskNews::Fetching { what, size: Some(size) } if size >= LARGE && !console.is_json() => {
                faint(&format!("fetching {what}, {}", nubrik_wording::size(size)));
            }
            DeskNews::Fetching { .. } | DeskNews::Asked { .. } => {}
        };
        let stopped = || self.cancel.is_thrown();
        then(&self.session.desk(&self.before, &stopped, &tell)).map_err(|problem| self.fail(&problem))
    }

    /// The registry of a name that was given to a subcommand.
    fn registry(&self, name: &str, to: &str) -> CommandResult<Registry> {
        Registry::named(name).ok_or_else(|| {
            let names: Vec<&str> = Registry::ALL.into_iter().map(Registry::name).collect();
            let near =
                Registry::meant(name).map(Registry::name).or_else(|| nearest(name, names.iter().copied()));
            let near = near.map(|near| format!("nubrik pins {to} {near} …"));
            let known = format!("no registry is called `{name}`; there is: {}", names.join(", "));
            self.wrong(known, &near.iter().map(String::as_str).collect::<Vec<_>>())
        })
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
        let name = (registry.description().spelled)(name);
        let mut pins = self.before.clone();
        let shelf = pins.shelves.entry(registry).or_default();
        if shelf.asked.remove(&name).is_none() {
            let names = shelf.asked.keys().map(String::as_str);
            let mut problem = PinProblem::new(format!("{PINS_FILE} does not ask for `{name}` of {registry}"));
            if let Some(id) = shelf.pins.values().find(|pin| pin.name == name).map(Pin::id) {
                problem = problem.note(format!("it is there because of: {}", shelf.chain(&id).join(" → ")));
            } else if let Some(near) = nearest(&name, names) {
                problem = problem.mend(format!("nubrik pins drop {registry} {near}"));
            }
            return Err(say(console, Exit::Usage, &problem));
        }
        if shelf.asked.is_empty() {
            pins.shelves.remove(&registry);
            return self.write(&pins, None);
        }
        // Versions stay as they are, but features that nobody wants any more go.
        let ended = self.settle(pins, &Free::Nothing, None)?;
        let now = self.session.pins().map_err(|problem| say(console, Exit::Definitions, &problem))?;
        if let Some(shelf) = now.shelves.get(&registry)
            && let Some(pin) = shelf.pins.values().find(|pin| pin.name == name)
            && !console.is_json()
        {
            outln!(console, "{} stays: {}", pin.id(), why_it_is_here(pin, shelf));
        }
        Ok(ended)
    }

    /// Takes the newest versions that the requirements allow: of everything, of a registry, or of a package.
    fn update(&self, name: Option<&str>, registry: Option<&str>) -> CommandResult<Exit> {
        let only = registry.map(|registry| self.registry(registry, "update --registry")).transpose()?;
        let names = name.map(|name| self.known_names(name, only)).transpose()?;
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
    fn with_request(&self, request: &PinRequest) -> CommandResult<Wish> {
        let mut pins = self.before.clone();
        let registry = self.registry(&request.registry, "add")?;
        let shelf = pins.shelves.entry(registry).or_default();
        self.add_systems(registry, shelf, request)?;
        let Some(name) = &request.name else {
            if shelf.asked.is_empty() || (request.system.is_empty() && request.python.is_none()) {
                let mend = format!("nubrik pins add {registry} NAME");
                return Err(self.wrong(format!("which package of {registry}?"), &[&mend]));
            }
            return Ok((pins, Free::Nothing, None));
        };
        let (name, mut features) = self.name_and_features(registry, name)?;
        let row = registry.description();
        let name = (row.spelled)(&name);
        features.extend(request.features.iter().map(|feature| (row.spelled)(feature)));
        features.sort();
        features.dedup();
        self.fits(registry, &name, !features.is_empty(), request)?;
        let requirement = request.requirement.join(row.between);
        let file =
            request.file.clone().or_else(|| shelf.asked.get(&name).and_then(|asked| asked.file.clone()));
        let pins_before = shelf.asked.get(&name).map(|asked| asked.pins.clone()).unwrap_or_default();
        let asked = AskedPackage { requirement, features, bare: request.bare, file, pins: pins_before };
        shelf.asked.insert(name.clone(), asked);
        let free = Free::Names([name.clone()].into());
        Ok((pins, free, Some((registry, name))))
    }

    /// Whether what the command line says of a package means something in its registry.
    fn fits(
        &self,
        registry: Registry,
        name: &str,
        has_features: bool,
        request: &PinRequest,
    ) -> CommandResult<()> {
        let row = registry.description();
        let what = if has_features && !row.has_features {
            "has no features"
        } else if request.bare && !row.has_default_features {
            "has no default features"
        } else if request.file.is_some() && !row.names_files {
            "says itself how its archives are called"
        } else {
            return Ok(());
        };
        let message = format!("what comes from `{registry}` {what}");
        Err(self.wrong(message, &[&format!("nubrik pins add {registry} {name}")]))
    }

    /// Names of pins that a word means, of all registries or of one.
    fn known_names(&self, word: &str, only: Option<Registry>) -> CommandResult<BTreeSet<String>> {
        let shelves = self.before.shelves.iter().filter(|(registry, _)| only.is_none_or(|o| o == **registry));
        let all: BTreeSet<String> =
            shelves.flat_map(|(_, shelf)| shelf.pins.values()).map(|pin| pin.name.clone()).collect();
        let spelled: Vec<String> =
            Registry::ALL.into_iter().map(|registry| (registry.description().spelled)(word)).collect();
        let meant: BTreeSet<String> =
            all.iter().filter(|name| **name == word || spelled.contains(name)).cloned().collect();
        if !meant.is_empty() {
            return Ok(meant);
        }
        let near =
            nearest(word, all.iter().map(String::as_str)).map(|near| format!("nubrik pins update {near}"));
        let mends: Vec<&str> = near.iter().map(String::as_str).collect();
        Err(self.wrong(format!("nothing that is pinned is called `{word}`"), &mends))
    }

    /// `requests[socks]` is a name with extras.
    fn name_and_features(&self, registry: Registry, word: &str) -> CommandResult<(String, Vec<String>)> {
        let row = registry.description();
        let (name, features) = match word.split_once('[') {
            None => (word, Vec::new()),
            Some((name, rest)) => {
                let inside = rest.strip_suffix(']').unwrap_or(rest);
                (name, inside.split(',').map(|f| (row.spelled)(f.trim())).filter(|f| !f.is_empty()).collect())
            }
        };
        if !(row.is_name)(name) {
            let message = format!("`{name}` is no name of a package");
            let cut = name.find(['<', '>', '=', '~', '^', '!', '@', ' ']);
            let mend = cut.filter(|at| *at > 0).map(|at| format!("{} \"{}\"", &name[..at], &name[at..]));
            return Err(self.wrong(message, &mend.iter().map(String::as_str).collect::<Vec<_>>()));
        }
        Ok((name.to_owned(), features))
    }

    /// The systems of a shelf: this one, if there is none yet, and those that are named.
    fn add_systems(&self, registry: Registry, shelf: &mut Shelf, request: &PinRequest) -> CommandResult<()> {
        let row = registry.description();
        if !row.differs_by_system {
            return match request.system.is_empty() && request.python.is_none() {
                true => Ok(()),
                false => {
                    Err(self.wrong(format!("what comes from `{registry}` is the same on all systems"), &[]))
                }
            };
        }
        let own = Session::own_system();
        let mut systems: Vec<&str> = request.system.iter().map(String::as_str).collect();
        if shelf.systems.is_empty() {
            systems.insert(0, &own);
        }
        for system in systems {
            if !shelf.systems.contains_key(system) {
                let facts = self.session.facts_of(registry, system);
                shelf.systems.insert(system.to_owned(), facts);
            }
        }
        if let Some(version) = &request.python {
            if registry != Registry::Python {
                return Err(self.wrong("`--python` is about the registry `python`".to_owned(), &[]));
            }
            shelf
                .systems
                .values_mut()
                .for_each(|facts| drop(facts.insert("python".to_owned(), version.clone())));
        }
        let lacks = row.measured.as_ref().is_some_and(|measured| {
            let lacks = |facts: &BTreeMap<String, String>| !facts.contains_key(measured.fact);
            measured.is_needed && shelf.systems.values().any(lacks)
        });
        match lacks {
            false => Ok(()),
            true => Err(say_wrong(
                self.console,
                Exit::Machine,
                "there is no Python here, so it is not known for which version",
                &["nubrik pins add python … --python 3.11", "install python3"],
            )),
        }
    }

    /// Chooses versions, and writes them.
    fn settle(&self, mut pins: Pins, free: &Free, added: Option<(Registry, String)>) -> CommandResult<Exit> {
        let meant: Vec<Registry> = match &added {
            Some((registry, _)) => vec![*registry],
            None => pins.shelves.keys().copied().collect(),
        };
        for registry in meant {
            let Some(shelf) = pins.shelves.get(&registry) else { continue };
            let settled = self.with_desk(|desk| resolve(desk, registry, shelf, free))?;
            pins.shelves.insert(registry, settled);
        }
        self.write(&pins, added)
    }

    /// Writes what is pinned, and says what differs.
    fn write(&self, pins: &Pins, added: Option<(Registry, String)>) -> CommandResult<Exit> {
        let changed =
            self.session.write_pins(pins, self.read.as_deref()).map_err(|problem| self.fail(&problem))?;
        let none = Shelf::default();
        let registries: BTreeSet<Registry> =
            self.before.shelves.keys().chain(pins.shelves.keys()).copied().collect();
        let mut counts = [0; 3];
        for registry in registries {
            let before = self.before.shelves.get(&registry).unwrap_or(&none);
            let now = pins.shelves.get(&registry).unwrap_or(&none);
            self.differences(registry, before, now, &mut counts);
        }
        if self.console.is_json() {
            return Ok(Exit::Done);
        }
        let total: usize = pins.shelves.values().map(|shelf| shelf.pins.len()).sum();
        let [new, other, gone] = counts;
        let said = [(new, "new"), (other, "changed"), (gone, "gone")];
        let said: Vec<String> =
            said.iter().filter(|(n, _)| *n > 0).map(|(n, word)| format!("{n} {word}")).collect();
        let said = match (said.is_empty(), changed) {
            (false, _) => said.join(", "),
            (true, true) => "written again".to_owned(),
            (true, false) => "nothing changed".to_owned(),
        };
        let paint = self.console.paint(OutputStream::Output);
        outln!(
            self.console,
            "{}",
            paint.ink(Ink::Strong, &format!("{PINS_FILE}: {}, {said}", counted(total, "pin")))
        );
        if let Some((registry, name)) = added {
            let kit = registry.description().kit;
            let words = format!("use \"nub:{kit}\" as {kit}   and   {kit}.pinned(\"{name}\")");
            outln!(self.console, "{}", paint.ink(Ink::Faint, &words));
        }
        Ok(Exit::Done)
    }

    fn differences(&self, registry: Registry, before: &Shelf, now: &Shelf, counts: &mut [usize; 3]) {
        let versions = |shelf: &Shelf| {
            let mut by_name: BTreeMap<String, Vec<String>> = BTreeMap::new();
            for pin in shelf.pins.values() {
                by_name.entry(pin.name.clone()).or_default().push(pin.version.clone());
            }
            by_name
        };
        let (old, new) = (versions(before), versions(now));
        let names: BTreeSet<&String> = old.keys().chain(new.keys()).collect();
        let none = Vec::new();
        let length = |name: &String| {
            let versions = old.get(name).into_iter().chain(new.get(name)).flatten();
            name.len() + 1 + versions.map(String::len).max().unwrap_or(0)
        };
        let differs = names.iter().filter(|name| old.get(**name) != new.get(**name));
        let width = column(differs.map(|name| length(name)));
        for name in names {
            let (was, is) = (old.get(name).unwrap_or(&none), new.get(name).unwrap_or(&none));
            let mut gone: Vec<&String> = was.iter().filter(|version| !is.contains(version)).collect();
            for version in is.iter().filter(|version| !was.contains(version)) {
                let pin = &now.pins[&pin_id(name, version)];
                // One version that goes and one that comes is a change.
                let replaced = gone.pop();
                counts[usize::from(replaced.is_some())] += 1;
                let change = (name.as_str(), Some(version.as_str()), replaced.map(String::as_str));
                self.tell(registry, change, pin, now, width);
            }
            for version in gone {
                counts[2] += 1;
                let pin = &before.pins[&pin_id(name, version)];
                self.tell(registry, (name, None, Some(version)), pin, before, width);
            }
        }
    }

    fn tell(
        &self,
        registry: Registry,
        (name, version, before): (&str, Option<&str>, Option<&str>),
        pin: &Pin,
        shelf: &Shelf,
        width: usize,
    ) {
        let change = match (version, before) {
            (Some(_), None) => "new",
            (Some(_), Some(_)) => "changed",
            _ => "gone",
        };
        if self.console.is_json() {
            let registry = registry.name();
            let wanted_by = &pin.wanted_by;
            self.console.event(&PinEvent {
                event: "pin",
                registry,
                name,
                version,
                before,
                change,
                wanted_by,
            });
            return;
        }
        let paint = self.console.paint(OutputStream::Output);
        let (ink, what) = match (version, before) {
            (Some(version), None) => (Ink::Busy, format!("{name} {version}")),
            (Some(version), Some(before)) => (Ink::Found, format!("{name} {before} → {version}")),
            (_, before) => (Ink::Faint, format!("{name} {}", before.unwrap_or_default())),
        };
        let why = match version {
            None => "nothing needs it any more".to_owned(),
            Some(_) => why_it_is_here(pin, shelf),
        };
        let on = if pin.on.is_empty() { String::new() } else { format!("   on {}", pin.on.join(", ")) };
        let label = paint.ink(ink, &padded(change, 8));
        outln!(self.console, "{label} {} {}{on}", padded(&what, width), paint.ink(Ink::Faint, &why));
    }
}

/// Who wants a pin: a person, or other pins.
pub(super) fn why_it_is_here(pin: &Pin, shelf: &Shelf) -> String {
    let asked = shelf.asked.get(&pin.name).filter(|_| pin.wanted_by.iter().any(|who| who == ASKED));
    match asked {
        Some(asked) if asked.requirement.is_empty() => "you ask for it".to_owned(),
        Some(asked) => format!("you ask for {}", asked.requirement),
        None => match pin.wanted_by.as_slice() {
            [one] => format!("{one} needs it"),
            [one, rest @ ..] => format!("{one} needs it, and {} more", rest.len()),
            [] => String::new(),
        },
    }
}
