//! Pins of a workspace: read, written, and what of this machine decides about them.

use std::collections::BTreeMap;
use std::io;
use std::path::Path;
use std::sync::Arc;

use nubrik_disk::read_file;
use nubrik_pins::{
    BoundPackages, Desk, DeskNews, Origin, PINS_FILE, PINS_LIMIT, PinProblem, Pins, Registry,
};

use super::Session;

/// The version of the C library that is meant for other systems, if this one has none: that of
/// long-lived releases.
const USUAL_GLIBC: &str = "2.28";

/// The bytes of the `pins.toml` below a root; `None` if there is none that can be read.
pub fn read_pins(root: &Path) -> Option<Vec<u8>> {
    read_file(&root.join(PINS_FILE), PINS_LIMIT).ok()
}

impl Session {
    /// What `pins.toml` says; nothing, if there is none.
    ///
    /// # Errors
    /// When it cannot be read, or does not hold together.
    pub fn pins(&self) -> Result<Pins, PinProblem> {
        self.pins_by(Pins::read)
    }

    /// What `pins.toml` asks for, without what is pinned for that.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn asked_of_pins(&self) -> Result<Pins, PinProblem> {
        self.pins_by(Pins::read_asked)
    }

    /// The text of `pins.toml`, as it is; `None` if there is none.
    pub fn pins_text(&self) -> Option<Vec<u8>> {
        read_pins(&self.workspace.root)
    }

    fn pins_by(&self, read: impl Fn(&str) -> Result<Pins, PinProblem>) -> Result<Pins, PinProblem> {
        match read_file(&self.workspace.root.join(PINS_FILE), PINS_LIMIT) {
            Ok(bytes) => match String::from_utf8(bytes) {
                Ok(text) => read(&text),
                Err(_) => Err(PinProblem::new(format!("{PINS_FILE} is not text"))),
            },
            Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(Pins::default()),
            Err(e) => Err(PinProblem::new(format!("cannot read {PINS_FILE}: {e}"))),
        }
    }

    /// Writes `pins.toml`, if that changes it; removes it, if nothing is pinned. Says whether it
    /// changed something. Archives that nothing names any more are dropped. `read` is the text that
    /// the pins were made from.
    ///
    /// # Errors
    /// When it cannot be written, or somebody else has changed it since it was read.
    pub fn write_pins(&self, pins: &Pins, read: Option<&[u8]>) -> Result<bool, PinProblem> {
        let cannot = |e: io::Error| PinProblem::new(format!("cannot write {PINS_FILE}: {e}"));
        let before = self.pins_text();
        if before.as_deref() != read {
            let problem = PinProblem::new(format!(
                "{PINS_FILE} was changed by someone else in the meantime"
            ));
            return Err(problem.mend("the same command again"));
        }
        let text = pins.write();
        let root = self.machine.below();
        let changes = match (pins.shelves.is_empty(), before) {
            (true, None) => false,
            (true, Some(_)) => {
                root.remove(PINS_FILE).map_err(cannot)?;
                true
            }
            (false, Some(before)) if before == text.as_bytes() => false,
            (false, _) => {
                root.write_whole(PINS_FILE, text.as_bytes())
                    .map_err(cannot)?;
                true
            }
        };
        let archives = pins
            .shelves
            .values()
            .flat_map(|shelf| shelf.pins.values())
            .flat_map(|pin| &pin.archives);
        let digests: Vec<String> = archives.map(|archive| archive.digest.clone()).collect();
        self.desk(pins, &|| false, &|_| {})
            .forget_others(digests.iter().map(String::as_str));
        Ok(changes)
    }

    /// Where a registry is.
    ///
    /// # Errors
    /// When nothing says so, or what does is wrong.
    pub fn origins(&self, registry: Registry) -> Result<Vec<Origin>, PinProblem> {
        self.machine.web().origins().of(registry)
    }

    /// Where all registries are, as [`Session::origins`] gives them.
    pub fn all_origins(&self) -> Vec<(Registry, Result<Vec<Origin>, PinProblem>)> {
        self.machine.web().origins().all()
    }

    /// Asks registries, for what is pinned where it is bound to.
    pub fn desk<'a>(
        &'a self,
        pins: &Pins,
        stopped: &'a (dyn Fn() -> bool + Sync),
        tell: &'a (dyn Fn(DeskNews) + Sync),
    ) -> Desk<'a> {
        let web = self.machine.web();
        let bound = Arc::new(BoundPackages::of(pins));
        Desk::new(
            (web.client(), web.origins()),
            bound,
            &self.workspace.root,
            stopped,
            tell,
        )
    }

    /// The system that this is, as pins name it.
    pub fn own_system() -> String {
        format!("{}-{}", std::env::consts::OS, std::env::consts::ARCH)
    }

    /// What decides about versions besides the system, as this machine has it: that of the
    /// interpreter, the compiler, the C library. For another system it is taken as here.
    pub fn facts_of(&self, registry: Registry, system: &str) -> BTreeMap<String, String> {
        let mut facts = BTreeMap::new();
        if let Some(measured) = &registry.description().measured {
            let version = self.version_of(measured.tools, "--version");
            let version = version.map(|version| {
                (
                    measured.fact.to_owned(),
                    numbers(&version, measured.numbers),
                )
            });
            facts.extend(version);
            let library = self.c_library(system);
            facts.extend(
                library.filter(|(name, _)| measured.counts_c_library_version || name == "musl"),
            );
        }
        facts
    }

    fn version_of(&self, names: &[&str], word: &str) -> Option<String> {
        names.iter().find_map(|name| {
            let version = self.machine.tool_version(&(*name).into(), &word.into())?;
            Some(version.to_string())
        })
    }

    fn c_library(&self, system: &str) -> Option<(String, String)> {
        if !system.starts_with("linux-") {
            return None;
        }
        let own = system == Session::own_system();
        let cpu = system.trim_start_matches("linux-");
        if own && Path::new(&format!("/lib/ld-musl-{cpu}.so.1")).exists() {
            return Some(("musl".to_owned(), "1.2".to_owned()));
        }
        let version = self.version_of(&["getconf"], "GNU_LIBC_VERSION");
        let version =
            version.map_or_else(|| USUAL_GLIBC.to_owned(), |version| numbers(&version, 2));
        Some(("glibc".to_owned(), version))
    }
}

/// The first numbers of a version.
fn numbers(version: &str, count: usize) -> String {
    version.split('.').take(count).collect::<Vec<_>>().join(".")
}
