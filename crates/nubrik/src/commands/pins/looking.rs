//! What is pinned, looked at: why, what is newer, and all archives in one folder.

use std::path::Path;

use nubrik_answers::{NewerEvent, PinChain};
use nubrik_diagnostic::nearest;
use nubrik_pins::{ASKED, Need, NewerVersion, Pin, Registry, Shelf, newer_versions};

use super::PinWork;
use crate::commands::{CommandResult, started_in};
use crate::exit::Exit;
use crate::ui::console::{OutputStream, outln};
use crate::ui::paint::Ink;
use crate::ui::text::padded;

impl PinWork<'_> {
    /// Says why something is pinned.
    pub(super) fn why(&self, registry: Option<&str>, name: &str) -> CommandResult<Exit> {
        let only = registry
            .map(|name| self.registry(name, "why --registry"))
            .transpose()?;
        let mut found = false;
        for (registry, shelf) in self
            .before
            .shelves
            .iter()
            .filter(|(r, _)| only.is_none_or(|only| only == **r))
        {
            let spelling = (registry.description().spelled)(name);
            for (id, pin) in shelf
                .pins
                .iter()
                .filter(|(id, pin)| pin.name == spelling || **id == name)
            {
                found = true;
                self.tell_why(*registry, shelf, id, pin);
            }
        }
        match found {
            true => Ok(Exit::Done),
            false => {
                let all = self
                    .before
                    .shelves
                    .values()
                    .flat_map(|shelf| shelf.pins.values());
                let near = nearest(name, all.map(|pin| pin.name.as_str()))
                    .map(|near| format!("nubrik pins why {near}"));
                let mends: Vec<&str> = near.iter().map(String::as_str).collect();
                Err(self.wrong(format!("nothing that is pinned is called `{name}`"), &mends))
            }
        }
    }

    fn tell_why(&self, registry: Registry, shelf: &Shelf, id: &str, pin: &Pin) {
        let found = PinChain::of(self.session, registry, shelf, id);
        if self.console.is_json() {
            return self.console.event(&found);
        }
        let PinChain {
            chain,
            requirement,
            named,
            first,
            ..
        } = found;
        let paint = self.console.paint(OutputStream::Output);
        outln!(
            self.console,
            "{}  {}",
            paint.ink(Ink::Strong, id),
            paint.ink(Ink::Faint, registry.name())
        );
        let asked = if requirement.is_empty() {
            "any version".to_owned()
        } else {
            requirement.to_owned()
        };
        let line = |label: &str, text: &str| {
            outln!(
                self.console,
                "  {}  {text}",
                paint.ink(Ink::Calm, &padded(label, 9))
            );
        };
        line("path", &chain.join(" → "));
        line("asked", &format!("{first} {asked}"));
        let or = |names: Vec<&str>, nothing: &str| match names.is_empty() {
            true => nothing.to_owned(),
            false => names.join(", "),
        };
        line(
            "named",
            &or(
                named.iter().map(|name| &**name).collect(),
                "in no definition",
            ),
        );
        let wanted_by = pin.wanted_by.iter();
        let wanted_by = wanted_by.map(|who| if who == ASKED { "you" } else { who });
        line("needed by", &or(wanted_by.collect(), ""));
        let needs = pin.needs.iter().map(|Need { pin, .. }| pin.as_str());
        line("needs", &or(needs.collect(), "nothing"));
        if let Some(licence) = &pin.licence {
            line("licence", licence);
        }
    }

    /// Says what is newer.
    pub(super) fn newer(&self) -> CommandResult<Exit> {
        let mut newer = 0;
        for (registry, shelf) in &self.before.shelves {
            for found in self.with_desk(|desk| newer_versions(desk, *registry, shelf))? {
                newer += usize::from(found.allowed.is_some());
                self.tell_newer(*registry, &found);
            }
        }
        if !self.console.is_json() {
            let said = match newer {
                0 => "no pin has a newer version that the requirements allow".to_owned(),
                1 => "1 pin has a newer version; `nubrik pins update` takes it".to_owned(),
                n => format!("{n} pins have newer versions; `nubrik pins update` takes them"),
            };
            outln!(self.console, "{said}");
        }
        Ok(if newer == 0 { Exit::Done } else { Exit::Failed })
    }

    fn tell_newer(&self, registry: Registry, found: &NewerVersion<'_>) {
        let NewerVersion {
            pin: Pin { name, version, .. },
            allowed,
            beyond,
            requirement,
        } = found;
        let (inside, beyond, requirement) = (allowed.as_deref(), beyond.as_deref(), *requirement);
        if self.console.is_json() {
            return self.console.event(&NewerEvent::of(registry, found));
        }
        let paint = self.console.paint(OutputStream::Output);
        let what = match inside {
            Some(newer) => format!("{name} {version} → {newer}"),
            None => format!("{name} {version}"),
        };
        let more = match (beyond, requirement) {
            (Some(beyond), Some(requirement))
                if registry.description().takes_oldest && requirement.contains('>') =>
            {
                format!("{beyond} is there, and of {requirement} the oldest that will do is taken")
            }
            (Some(beyond), Some(requirement)) if !requirement.is_empty() => {
                format!("{beyond} is there, and you ask for {requirement}")
            }
            (Some(beyond), _) => {
                format!("{beyond} is there, and does not fit the others or this machine")
            }
            _ => String::new(),
        };
        let label = if inside.is_some() {
            paint.ink(Ink::Found, "newer   ")
        } else {
            paint.ink(Ink::Faint, "beyond  ")
        };
        outln!(
            self.console,
            "{label} {} {}",
            padded(&what, 32),
            paint.ink(Ink::Faint, &more)
        );
    }

    /// Collects all archives in a folder that is laid out like a registry.
    pub(super) fn vendor(&self, folder: &Path) -> CommandResult<Exit> {
        let to = started_in().join(folder);
        let (mut new, mut all, mut bytes) = (0, 0, 0);
        self.with_desk(|desk| {
            for (registry, shelf) in &self.before.shelves {
                for pin in shelf.pins.values() {
                    for archive in &pin.archives {
                        new += usize::from(desk.gather(*registry, archive, &pin.id(), &to)?);
                        all += 1;
                        bytes += archive.size;
                    }
                }
            }
            Ok(())
        })?;
        if all == 0 {
            return Err(self.wrong(
                "nothing is pinned yet".to_owned(),
                &["nubrik pins add python NAME"],
            ));
        }
        if !self.console.is_json() {
            let size = nubrik_wording::size(bytes);
            outln!(
                self.console,
                "{}: {all} archives, {size}, {new} new",
                folder.display()
            );
            outln!(
                self.console,
                "to build from it:  [origins]  mirror = \"{}\"   in nubrik.toml",
                folder.display()
            );
        }
        Ok(Exit::Done)
    }
}
