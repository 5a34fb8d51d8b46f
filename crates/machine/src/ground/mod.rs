//! What surrounds every command: the folder that they run in, their variables, and what they may
//! reach. Code that starts a process gets it here, and nowhere else are variables, rules and
//! confinements put together: `tests/arrows.rs` of the program looks for their names in other
//! files.

mod enclosure;
mod grants;
mod looking;
mod watching;

use std::path::Path;

use nubrik_confine::{Confinement, PipelineSpec, StageSpec};

pub use enclosure::circumstances;
pub(crate) use enclosure::{
    CommandNeeds, Enclosure, Means, Net, ServiceNet, StoppingRules, Whom, needed_folder,
};
pub(crate) use grants::{Grants, named};
pub use looking::{Looked, LookingScope, Question};
pub use watching::WatchedCommand;

/// Variables that every step gets, besides `HOME`, `TMPDIR` and `PWD`, which say where its own
/// folders are. Part of what the version of the step key represents.
pub const CONFINED_ENVIRONMENT: [(&str, &str); 5] = [
    ("PATH", "/usr/local/bin:/usr/bin:/bin"),
    ("LANG", "C.UTF-8"),
    ("LC_ALL", "C.UTF-8"),
    ("TZ", "UTC"),
    ("SOURCE_DATE_EPOCH", "315532800"),
];

/// All variables that commands see, each of them once.
#[derive(Clone, Debug)]
pub struct Environment(Vec<(String, String)>);

impl Environment {
    /// What every step gets.
    pub(crate) fn confined() -> Environment {
        Environment::of(CONFINED_ENVIRONMENT)
    }

    /// The variables of the person who runs this program. What is no text is left out.
    pub(crate) fn of_person() -> Environment {
        let own = std::env::vars_os();
        Environment(
            own.filter_map(|(n, v)| Some((n.into_string().ok()?, v.into_string().ok()?)))
                .collect(),
        )
    }

    /// Some of the person's variables, with a language that all understand.
    pub fn handed_on(names: &[&str]) -> Environment {
        let mut environment =
            Environment::of([("LANG", "C.UTF-8"), ("LC_ALL", "C.UTF-8"), ("TZ", "UTC")]);
        for name in names {
            if let Ok(value) = std::env::var(name) {
                environment.set(name, value);
            }
        }
        environment
    }

    fn of<const N: usize>(variables: [(&str, &str); N]) -> Environment {
        Environment(
            variables
                .map(|(name, value)| (name.to_owned(), value.to_owned()))
                .into(),
        )
    }

    /// Sets a variable, in place of the one of that name.
    pub fn set(&mut self, name: &str, value: impl Into<String>) {
        self.0.retain(|(known, _)| known != name);
        self.0.push((name.to_owned(), value.into()));
    }
}

/// Where commands run, with which variables, and what they may reach. Paths are as the commands see
/// them.
#[derive(Clone, Copy)]
pub(crate) struct Ground<'a> {
    /// The folder from which the relative paths of redirects start.
    folder: &'a Path,
    work: &'a Path,
    environment: &'a Environment,
    confinement: Confinement<'a>,
}

impl<'a> Ground<'a> {
    /// The ground in an enclosure.
    pub fn in_enclosure(
        enclosure: &'a Enclosure,
        work: &'a Path,
        environment: &'a Environment,
        net: Net<'a>,
    ) -> Ground<'a> {
        let confinement = enclosure.confinement(net);
        Ground {
            folder: enclosure.root(),
            work,
            environment,
            confinement,
        }
    }

    /// The ground of a person's own commands, which may do whatever the person may.
    pub fn of_person(folder: &'a Path, work: &'a Path, environment: &'a Environment) -> Ground<'a> {
        Ground {
            folder,
            work,
            environment,
            confinement: Confinement::Free,
        }
    }

    /// The same ground for who stops a service.
    #[must_use]
    pub fn to_stop(self, rules: Option<&'a StoppingRules>, net: Net<'a>) -> Ground<'a> {
        let confinement = rules.map_or(self.confinement, |rules| rules.confinement(net));
        Ground {
            confinement,
            ..self
        }
    }

    /// Processes to be started there: with as much time and memory as they want, and with their
    /// output captured.
    pub fn spec(self, stages: Vec<StageSpec>) -> PipelineSpec<'a> {
        let Ground {
            folder,
            work,
            environment,
            confinement,
        } = self;
        PipelineSpec {
            stages,
            folder,
            work,
            environment: &environment.0,
            confinement,
            timeout: None,
            memory: None,
            recorder: None,
            attached: false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_variable_is_there_once() {
        let mut environment = Environment::confined();
        environment.set("TZ", "Skerrin/Holm");
        environment.set("TIDE", "ebb");
        let of = |name: &str| {
            environment
                .0
                .iter()
                .filter(|(n, _)| n == name)
                .collect::<Vec<_>>()
        };
        assert_eq!(of("TZ"), [&("TZ".to_owned(), "Skerrin/Holm".to_owned())]);
        assert_eq!(
            (of("TIDE").len(), environment.0.len()),
            (1, CONFINED_ENVIRONMENT.len() + 1)
        );
    }
}
