//! `pins.toml`: which versions of other people's code a workspace uses.
//!
//! The file is data: one table an archive, one line an item, in an order that does not depend on
//! when something was added.
//! Two branches that pin different packages merge without a conflict.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use serde::Deserialize;

use crate::{PinProblem, Registry};

/// The name of the file, at the root of a workspace.
pub const PINS_FILE: &str = "pins.toml";

/// The most that it may hold, in bytes.
pub const PINS_LIMIT: u64 = 256 << 20;

/// The format that is written, and the newest one that is read.
const FORMAT: u32 = 1;

/// What is in `wanted_by` of what definitions ask for.
pub const ASKED: &str = "asked";

/// All pins of a workspace, by registry.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Pins {
    /// What comes from each registry. One without anything asked for is not there.
    pub shelves: BTreeMap<Registry, Shelf>,
}

/// What comes from one registry.
#[derive(Clone, PartialEq, Eq, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Shelf {
    /// The systems for which there are pins, each with what else of a machine decides about
    /// versions: `python`, `glibc`.
    #[serde(default)]
    pub systems: BTreeMap<String, BTreeMap<String, String>>,
    /// What is asked for, by name.
    #[serde(default)]
    pub asked: BTreeMap<String, AskedPackage>,
    /// Exact versions, by name and version: `click@8.1.7`.
    #[serde(default)]
    pub pins: BTreeMap<String, Pin>,
}

/// A package that is asked for by a person.
#[derive(Clone, PartialEq, Eq, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AskedPackage {
    /// Which versions will do, in the registry's own grammar; empty for any.
    #[serde(default)]
    pub requirement: String,
    /// Features (Rust) or extras (Python) that are wanted.
    #[serde(default)]
    pub features: Vec<String>,
    /// Whether features are off that are on if nobody says anything.
    #[serde(default)]
    pub bare: bool,
    /// How its archives are called, with `{version}` in it, where no registry says that.
    #[serde(default)]
    pub file: Option<String>,
    /// The pins that it leads to: one, unless systems need different versions.
    #[serde(default)]
    pub pins: Vec<String>,
}

/// One version of a package.
#[derive(Clone, PartialEq, Eq, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Pin {
    /// The name of the package.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Its licence, as its author wrote it.
    #[serde(default)]
    pub licence: Option<String>,
    /// The origin that it was pinned from, where there are several or it has a name: no other one
    /// is asked for a package of this name.
    #[serde(default)]
    pub origin: Option<String>,
    /// The archives that it comes in.
    pub archives: Vec<Archive>,
    /// Features that are on: of all who need it together.
    #[serde(default)]
    pub features: Vec<String>,
    /// The packages in it that are used, where one archive holds several: their folders in it, `.`
    /// for the top.
    #[serde(default)]
    pub packages: Vec<String>,
    /// What a kit has to know of it to use it, such as the edition of a crate.
    #[serde(default)]
    pub facts: BTreeMap<String, String>,
    /// Where it is in a folder of modules, if more than its name says that:
    /// `express/node_modules/debug`.
    #[serde(default)]
    pub places: Vec<String>,
    /// The pins that it needs.
    #[serde(default)]
    pub needs: Vec<Need>,
    /// The systems on which it is needed; empty for all.
    #[serde(default)]
    pub on: Vec<String>,
    /// Why it is here: `asked`, or the pins that need it.
    #[serde(default)]
    pub wanted_by: Vec<String>,
}

impl Pin {
    /// How other pins and people name it.
    pub fn id(&self) -> String {
        pin_id(&self.name, &self.version)
    }
}

/// An archive of a registry.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Archive {
    /// Where it is, below the registry's address.
    pub path: String,
    /// Its digest, by a strong function: `sha256:…`, `sha512:…`.
    pub digest: String,
    /// Its size in bytes.
    pub size: u64,
    /// The systems for which it is; empty for all.
    #[serde(default)]
    pub on: Vec<String>,
}

impl Archive {
    /// An archive that is for all systems; `size` is in bytes.
    pub(crate) fn everywhere(path: String, digest: String, size: u64) -> Archive {
        Archive {
            path,
            digest,
            size,
            on: Vec::new(),
        }
    }
}

/// A pin that another one needs.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Need {
    /// Which.
    pub pin: String,
    /// The name that it is used by, if that is another one than its own.
    #[serde(default, rename = "as")]
    pub alias: Option<String>,
    /// Whether its build script needs it, and not itself.
    #[serde(default)]
    pub build: bool,
    /// The systems on which it is needed; empty for all.
    #[serde(default)]
    pub on: Vec<String>,
}

impl Need {
    /// A pin that is needed on all systems, by its own name.
    pub(crate) fn plain(pin: String) -> Need {
        Need {
            pin,
            alias: None,
            build: false,
            on: Vec::new(),
        }
    }
}

/// How a version of a package is named: `click@8.1.7`.
pub fn pin_id(name: &str, version: &str) -> String {
    format!("{name}@{version}")
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    format: u32,
    #[serde(default)]
    python: Shelf,
    #[serde(default)]
    java: Shelf,
    #[serde(default)]
    js: Shelf,
    #[serde(default)]
    rust: Shelf,
    #[serde(default)]
    go: Shelf,
    #[serde(default)]
    images: Shelf,
    #[serde(default)]
    archive: Shelf,
}

impl Pins {
    /// Reads the file. Every need leads to a pin afterwards.
    ///
    /// # Errors
    /// When it is not TOML, has something unknown in it, or does not hold together, as after a bad
    /// merge.
    pub fn read(text: &str) -> Result<Pins, PinProblem> {
        let pins = Pins::written_in(text)?;
        pins.check()?;
        Ok(pins)
    }

    /// Reads only what is asked for, and on which systems: to choose all versions again where they
    /// do not hold together.
    ///
    /// # Errors
    /// When it is not TOML, or has something unknown in it.
    pub fn read_asked(text: &str) -> Result<Pins, PinProblem> {
        let mut pins = Pins::written_in(text)?;
        for shelf in pins.shelves.values_mut() {
            shelf.pins.clear();
            shelf
                .asked
                .values_mut()
                .for_each(|asked| asked.pins.clear());
        }
        Ok(pins)
    }

    fn written_in(text: &str) -> Result<Pins, PinProblem> {
        let written: Written = toml::from_str(text).map_err(|e| {
            let line = e.span().map_or(1, |span| {
                text[..span.start.min(text.len())].matches('\n').count() + 1
            });
            let message = format!("cannot read {PINS_FILE}, line {line}: {}", e.message());
            match text.contains("\n<<<<<<<") || text.starts_with("<<<<<<<") {
                true => PinProblem::new(format!("{PINS_FILE} has marks of a merge in it"))
                    .mend("keep the lines of both sides, then  nubrik pins settle"),
                false => PinProblem::new(message),
            }
        })?;
        let Written {
            format,
            python,
            java,
            js,
            rust,
            go,
            images,
            archive,
        } = written;
        if format > FORMAT {
            let message =
                format!("{PINS_FILE} has format {format}, and this nubrik reads {FORMAT}");
            return Err(PinProblem::new(message).mend("install a newer nubrik"));
        }
        let shelves = [
            (Registry::Python, python),
            (Registry::Java, java),
            (Registry::Js, js),
            (Registry::Rust, rust),
            (Registry::Go, go),
            (Registry::Images, images),
            (Registry::Archive, archive),
        ];
        let shelves: BTreeMap<Registry, Shelf> = shelves
            .into_iter()
            .filter(|(_, shelf)| *shelf != Shelf::default())
            .collect();
        Ok(Pins { shelves })
    }

    /// Makes sure that every name and every need leads to a pin.
    fn check(&self) -> Result<(), PinProblem> {
        let again = "nubrik pins update   makes the pins anew";
        for (registry, shelf) in &self.shelves {
            for (id, pin) in &shelf.pins {
                if *id != pin.id() {
                    let message = format!(
                        "{PINS_FILE}: the pin \"{id}\" of {registry} says that it is \"{}\"",
                        pin.id()
                    );
                    return Err(PinProblem::new(message).mend(again));
                }
                if let Some(need) = pin
                    .needs
                    .iter()
                    .find(|need| !shelf.pins.contains_key(&need.pin))
                {
                    let message = format!(
                        "{PINS_FILE}: \"{id}\" of {registry} needs \"{}\", which is not there",
                        need.pin
                    );
                    return Err(PinProblem::new(message).mend(again));
                }
            }
            for (name, asked) in &shelf.asked {
                if let Some(id) = asked.pins.iter().find(|id| !shelf.pins.contains_key(*id)) {
                    let message = format!(
                        "{PINS_FILE}: `{name}` of {registry} leads to \"{id}\", which is not there"
                    );
                    return Err(PinProblem::new(message).mend(again));
                }
            }
        }
        Ok(())
    }

    /// The file's text.
    pub fn write(&self) -> String {
        let mut out = String::from(
            "# Third-party packages of this workspace, with exact versions. `nubrik pins` writes this file.\n",
        );
        let _ = writeln!(out, "format = {FORMAT}");
        for (registry, shelf) in &self.shelves {
            shelf.write(*registry, &mut out);
        }
        out
    }
}

impl Shelf {
    fn write(&self, registry: Registry, out: &mut String) {
        let Shelf {
            systems,
            asked,
            pins,
        } = self;
        for (system, facts) in systems {
            let _ = writeln!(out, "\n[{registry}.systems.{}]", key(system));
            for (name, value) in facts {
                let _ = writeln!(out, "{} = {}", key(name), quoted(value));
            }
        }
        for (name, asked) in asked {
            let AskedPackage {
                requirement,
                features,
                bare,
                file,
                pins,
            } = asked;
            let _ = writeln!(out, "\n[{registry}.asked.{}]", key(name));
            if !requirement.is_empty() {
                let _ = writeln!(out, "requirement = {}", quoted(requirement));
            }
            write_texts(out, "features", features);
            if *bare {
                out.push_str("bare = true\n");
            }
            if let Some(file) = file {
                let _ = writeln!(out, "file = {}", quoted(file));
            }
            write_texts(out, "pins", pins);
        }
        for (id, pin) in pins {
            pin.write(registry, id, out);
        }
    }

    /// Says again of each pin why it is here, and drops those that nothing needs any more.
    pub fn settle(&mut self) {
        let mut wanted: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        let mut open: Vec<String> = Vec::new();
        for asked in self.asked.values() {
            for id in asked.pins.iter().filter(|id| self.pins.contains_key(*id)) {
                wanted
                    .entry(id.clone())
                    .or_default()
                    .insert(ASKED.to_owned());
                open.push(id.clone());
            }
        }
        let mut seen = BTreeSet::new();
        while let Some(id) = open.pop() {
            if !seen.insert(id.clone()) {
                continue;
            }
            for need in self.pins.get(&id).iter().flat_map(|pin| &pin.needs) {
                wanted
                    .entry(need.pin.clone())
                    .or_default()
                    .insert(id.clone());
                open.push(need.pin.clone());
            }
        }
        self.pins.retain(|id, _| wanted.contains_key(id));
        for (id, pin) in &mut self.pins {
            let mut by: Vec<String> = wanted.remove(id).into_iter().flatten().collect();
            // What a person asked for is first.
            by.sort_by_key(|who| (who != ASKED, who.clone()));
            pin.wanted_by = by;
        }
    }

    /// The shortest chain from what is asked for to a pin, the pin last.
    pub fn chain(&self, id: &str) -> Vec<String> {
        let mut before: BTreeMap<&str, Option<&str>> = BTreeMap::new();
        let mut open: std::collections::VecDeque<&str> = std::collections::VecDeque::new();
        for asked in self.asked.values().flat_map(|asked| &asked.pins) {
            before.entry(asked).or_insert_with(|| {
                open.push_back(asked);
                None
            });
        }
        while let Some(at) = open.pop_front() {
            for need in self.pins.get(at).iter().flat_map(|pin| &pin.needs) {
                before.entry(&need.pin).or_insert_with(|| {
                    open.push_back(&need.pin);
                    Some(at)
                });
            }
        }
        let mut chain = Vec::new();
        let mut at = before.contains_key(id).then_some(id);
        while let Some(id) = at {
            chain.push(id.to_owned());
            at = before.get(id).copied().flatten();
        }
        chain.reverse();
        chain
    }
}

impl Pin {
    fn write(&self, registry: Registry, id: &str, out: &mut String) {
        let Pin {
            name,
            version,
            licence,
            origin,
            archives,
            features,
            packages,
            facts,
            places,
            needs,
            on,
            wanted_by,
        } = self;
        let _ = writeln!(out, "\n[{registry}.pins.{}]", key(id));
        let _ = writeln!(
            out,
            "name = {}\nversion = {}",
            quoted(name),
            quoted(version)
        );
        if let Some(licence) = licence {
            let _ = writeln!(out, "licence = {}", quoted(licence));
        }
        if let Some(origin) = origin {
            let _ = writeln!(out, "origin = {}", quoted(origin));
        }
        out.push_str("archives = [\n");
        for Archive {
            path,
            digest,
            size,
            on,
        } in archives
        {
            let _ = write!(
                out,
                "    {{ path = {}, digest = {}, size = {size}",
                quoted(path),
                quoted(digest)
            );
            write_on(out, on);
        }
        out.push_str("]\n");
        write_texts(out, "features", features);
        write_texts(out, "packages", packages);
        for (name, value) in facts {
            let _ = writeln!(out, "facts.{} = {}", key(name), quoted(value));
        }
        write_texts(out, "places", places);
        write_needs(out, needs);
        write_texts(out, "on", on);
        write_texts(out, "wanted_by", wanted_by);
    }
}

/// What a pin needs, a line each.
fn write_needs(out: &mut String, needs: &[Need]) {
    if needs.is_empty() {
        return;
    }
    out.push_str("needs = [\n");
    for Need {
        pin,
        alias,
        build,
        on,
    } in needs
    {
        let _ = write!(out, "    {{ pin = {}", quoted(pin));
        if let Some(alias) = alias {
            let _ = write!(out, ", as = {}", quoted(alias));
        }
        if *build {
            out.push_str(", build = true");
        }
        write_on(out, on);
    }
    out.push_str("]\n");
}

fn write_on(out: &mut String, on: &[String]) {
    if !on.is_empty() {
        let list: Vec<String> = on.iter().map(|system| quoted(system)).collect();
        let _ = write!(out, ", on = [{}]", list.join(", "));
    }
    out.push_str(" },\n");
}

/// A list, one item a line if there are several: so that two branches can add to it.
fn write_texts(out: &mut String, name: &str, texts: &[String]) {
    match texts {
        [] => {}
        [one] => {
            let _ = writeln!(out, "{name} = [{}]", quoted(one));
        }
        several => {
            let _ = writeln!(out, "{name} = [");
            for text in several {
                let _ = writeln!(out, "    {},", quoted(text));
            }
            out.push_str("]\n");
        }
    }
}

fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

/// A key, in quotes if it needs them.
fn key(text: &str) -> String {
    let bare = !text.is_empty()
        && text
            .chars()
            .all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_'));
    if bare { text.to_owned() } else { quoted(text) }
}

#[cfg(test)]
mod tests;
