//! Packages of registries: those that are pinned, their use, newer versions of them, and those that
//! are in a target.

use std::collections::HashSet;

use nubrik_graph::{Closure, FileId, Graph, Native, Step, StepId};
use nubrik_pins::{NewerVersion, Pin, PinChange, Pins, Registry, Shelf};
use nubrik_reports::packages::{ThirdPartyPackage, package_url};
use nubrik_session::Session;
use nubrik_source::WsPath;
use serde::Serialize;

/// Archives that steps of a graph fetch, by their digests.
pub struct FetchedArchives<'g>(HashSet<&'g str>);

impl<'g> FetchedArchives<'g> {
    /// Those of all steps of a graph.
    pub fn of(graph: &'g Graph) -> FetchedArchives<'g> {
        FetchedArchives(
            graph
                .steps
                .iter()
                .filter_map(|step| fetched(step))
                .collect(),
        )
    }

    /// Those of the steps that some files come from.
    pub fn behind(graph: &'g Graph, files: &[FileId]) -> FetchedArchives<'g> {
        let steps: Vec<StepId> = Closure::of(graph, files.iter().copied()).steps;
        FetchedArchives(
            steps
                .iter()
                .filter_map(|step| fetched(graph.step(*step)))
                .collect(),
        )
    }

    /// Whether an archive of a pin is among them.
    pub fn has_of(&self, pin: &Pin) -> bool {
        pin.archives
            .iter()
            .any(|archive| self.0.contains(archive.digest.as_str()))
    }

    /// The packages of registries that they are of, by registry and name, as bills of materials
    /// have them.
    pub fn packages(&self, pins: &Pins) -> Vec<ThirdPartyPackage> {
        let own = Session::own_system();
        let mut packages = Vec::new();
        for (registry, shelf) in &pins.shelves {
            let kind = registry.description().package_url_kind;
            let address = |pin: &Pin| package_url(kind, &pin.name, &pin.version);
            for pin in shelf.pins.values().filter(|pin| self.has_of(pin)) {
                let here = pin
                    .needs
                    .iter()
                    .filter(|need| need.on.is_empty() || need.on.contains(&own));
                let needed = here.filter_map(|need| shelf.pins.get(&need.pin));
                packages.push(ThirdPartyPackage {
                    name: pin.name.clone(),
                    version: pin.version.clone(),
                    licence: pin.licence.clone(),
                    address: address(pin),
                    digests: digests(pin),
                    needs: needed
                        .filter(|need| self.has_of(need))
                        .map(address)
                        .collect(),
                });
            }
        }
        packages
    }
}

/// The digest of the archive that a step fetches, if it does.
fn fetched(step: &Step) -> Option<&str> {
    match step.native.as_deref()? {
        Native::Fetch { digest, .. } => Some(digest),
        _ => None,
    }
}

/// The digests of a pin's archives, as hexadecimal digits.
fn digests(pin: &Pin) -> Vec<(&'static str, String)> {
    let hex = |digest: &str| {
        let (method, value) = digest.split_once(':')?;
        let name = if method == "sha512" {
            "SHA-512"
        } else {
            "SHA-256"
        };
        Some((name, nubrik_pins::hex_of(value)?))
    };
    pin.archives
        .iter()
        .filter_map(|archive| hex(&archive.digest))
        .collect()
}

/// A package that is pinned, for programs.
#[derive(Serialize)]
pub struct ListedPinEvent<'a> {
    event: &'static str,
    registry: &'static str,
    name: &'a str,
    version: &'a str,
    licence: Option<&'a str>,
    /// Whether a target here fetches it.
    pub used: bool,
    /// Whether a person asked for it.
    pub asked: bool,
    wanted_by: &'a [String],
}

impl<'a> ListedPinEvent<'a> {
    /// The event about a pin of a shelf.
    pub fn of(
        registry: Registry,
        shelf: &Shelf,
        pin: &'a Pin,
        fetched: &FetchedArchives<'_>,
    ) -> ListedPinEvent<'a> {
        ListedPinEvent {
            event: "listed_pin",
            registry: registry.name(),
            name: &pin.name,
            version: &pin.version,
            licence: pin.licence.as_deref(),
            used: fetched.has_of(pin),
            asked: shelf
                .asked
                .values()
                .any(|asked| asked.pins.contains(&pin.id())),
            wanted_by: &pin.wanted_by,
        }
    }
}

/// A pin that is new, another one, or gone, for programs.
#[derive(Serialize)]
pub struct PinEvent<'a> {
    event: &'static str,
    registry: &'static str,
    name: &'a str,
    version: Option<&'a str>,
    before: Option<&'a str>,
    change: &'static str,
    wanted_by: &'a [String],
}

impl<'a> PinEvent<'a> {
    /// The event about a change.
    pub fn of(change: &PinChange<'a>) -> PinEvent<'a> {
        PinEvent {
            event: "pin",
            registry: change.registry.name(),
            name: &change.pin.name,
            version: change.version,
            before: change.before,
            change: change.word(),
            wanted_by: &change.pin.wanted_by,
        }
    }
}

/// A release that is not taken, since its registry lacks something that it needs.
#[derive(Serialize)]
pub struct PassedOverEvent<'a> {
    event: &'static str,
    release: &'a str,
    needs: &'a str,
}

impl<'a> PassedOverEvent<'a> {
    /// The event about a release and what it needs.
    pub fn of(release: &'a str, needs: &'a str) -> PassedOverEvent<'a> {
        PassedOverEvent {
            event: "passed_over",
            release,
            needs,
        }
    }
}

/// A newer version of a pin, for programs.
#[derive(Serialize)]
pub struct NewerEvent<'a> {
    event: &'static str,
    registry: &'static str,
    name: &'a str,
    version: &'a str,
    newer: Option<&'a str>,
    newest: Option<&'a str>,
    requirement: Option<&'a str>,
}

impl<'a> NewerEvent<'a> {
    /// The event about a version.
    pub fn of(registry: Registry, found: &'a NewerVersion<'_>) -> NewerEvent<'a> {
        NewerEvent {
            event: "newer",
            registry: registry.name(),
            name: &found.pin.name,
            version: &found.pin.version,
            newer: found.allowed.as_deref(),
            newest: found.beyond.as_deref(),
            requirement: found.requirement,
        }
    }
}

/// The chain from a package that is asked for to a pin, for people and programs.
#[derive(Serialize)]
pub struct PinChain<'a> {
    event: &'static str,
    registry: &'static str,
    /// The pin.
    pub pin: &'a str,
    /// The pins from the one that is asked for to this one.
    pub chain: Vec<String>,
    /// What was asked for; empty where any version will do.
    pub requirement: &'a str,
    /// Where definitions name what is asked for: file and line.
    pub named: Vec<String>,
    /// The package that is asked for.
    #[serde(skip)]
    pub first: &'a str,
}

impl<'a> PinChain<'a> {
    /// The chain to a pin of a shelf, in the workspace of a session.
    pub fn of(
        session: &Session,
        registry: Registry,
        shelf: &'a Shelf,
        id: &'a str,
    ) -> PinChain<'a> {
        let chain = shelf.chain(id);
        let first = chain
            .first()
            .and_then(|first| shelf.pins.get(first))
            .map(|first| first.name.as_str());
        let asked = first.and_then(|first| shelf.asked.get(first));
        PinChain {
            event: "pin_chain",
            registry: registry.name(),
            pin: id,
            requirement: asked
                .map(|asked| asked.requirement.as_str())
                .unwrap_or_default(),
            named: first
                .map(|first| lines_naming(session, registry, first))
                .unwrap_or_default(),
            first: first.unwrap_or_default(),
            chain,
        }
    }
}

/// The lines of definitions that name a package of a registry.
fn lines_naming(session: &Session, registry: Registry, name: &str) -> Vec<String> {
    let root = &session.workspace.root;
    let mut lines = Vec::new();
    for file in session.definition_files(&WsPath::root()) {
        let text = nubrik_disk::read_text(&root.join(file.as_str())).unwrap_or_default();
        for (n, line) in text.lines().enumerate() {
            let mut words = line
                .split("pinned(\"")
                .skip(1)
                .filter_map(|rest| rest.split('"').next());
            if words.any(|word| (registry.description().spelled)(word) == name) {
                lines.push(format!("{file}:{}", n + 1));
            }
        }
    }
    lines
}
