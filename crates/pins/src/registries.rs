//! What each registry is like: one row each, from which names, questions and answers of all
//! commands are derived. A row that lacks something does not compile.

use std::collections::BTreeMap;
use std::fmt;

use nubrik_web::Address;

use crate::client_defaults::{self, ClientDefault};
use crate::desk::Desk;
use crate::file::AskedPackage;
use crate::origin::{ClientSettings, Origin};
use crate::solved::{Preferred, Solved};
use crate::{PinProblem, Registry, clients, go, go_client, images, java, js, plain, python, rust};

/// What is special about a registry, for all who ask, name or write its packages.
pub struct Description {
    /// Its name in `pins.toml`, in `[origins]` and on the command line.
    pub name: &'static str,
    /// The kit whose `pinned` gives its packages.
    pub kit: &'static str,
    /// The kind of its packages in package URLs (purl).
    pub package_url_kind: &'static str,
    /// Whether versions and archives may differ from system to system.
    pub differs_by_system: bool,
    /// Whether packages have features that are on or off: extras in Python.
    pub has_features: bool,
    /// Whether some features are on where nobody says anything.
    pub has_default_features: bool,
    /// Whether an archive's file name is given by who asks for it, and its path begins with the
    /// name of a site.
    pub names_files: bool,
    /// Whether a version that was published as what is needed is mostly the only one: others are
    /// taken where it is not there.
    pub wants_one_version: bool,
    /// Whether the oldest version that fits is taken.
    pub takes_oldest: bool,
    /// Whether a secret is sent as it is, with no word before it.
    pub sends_secret_bare: bool,
    /// What is between two requirements that are to hold together.
    pub between: &'static str,
    /// A name, of a package or a feature, as the registry has it.
    pub spelled: fn(&str) -> String,
    /// Whether a text can be a package's name.
    pub is_name: fn(&str) -> bool,
    /// What of a system decides about versions.
    pub measured: Option<Measured>,
    /// What is said where no address of it is known.
    pub(crate) unknown: Unknown,
    /// The addresses that its ordinary client would ask.
    pub(crate) origins: fn(&dyn ClientSettings) -> Result<Vec<Origin>, PinProblem>,
    /// How its ordinary client is asked where it goes by itself, if there is one that can be.
    pub(crate) client: Option<ClientDefault>,
    /// Chooses versions on a system, with facts about it.
    pub(crate) resolve: Resolve,
    /// The newest released version of a package.
    pub(crate) newest: fn(&Desk<'_>, &str) -> Result<Option<String>, PinProblem>,
    /// Where an archive is now, by its path in `pins.toml`.
    pub(crate) locate: Locate,
}

/// The interpreter or compiler whose version decides, with which versions fit.
pub struct Measured {
    /// The name of the fact in `pins.toml`.
    pub fact: &'static str,
    /// Programs that tell it for `--version`, the first one that there is.
    pub tools: &'static [&'static str],
    /// So many numbers of the version count.
    pub numbers: usize,
    /// Whether archives name the version of the C library; else only which library it is.
    pub counts_c_library_version: bool,
    /// Whether nothing can be chosen without it.
    pub is_needed: bool,
}

/// What is said where no address of a registry is known.
pub(crate) struct Unknown {
    /// Where it was looked for.
    pub looked_in: &'static str,
    /// How a person finds it.
    pub how_known: &'static str,
    /// A line of settings.
    pub example: &'static str,
    /// The table of `nubrik.toml` that the line belongs to.
    pub table: &'static str,
}

type Locate = fn(&Desk<'_>, &str) -> Result<Option<(Address, Origin)>, PinProblem>;

type Resolve = fn(
    &Desk<'_>,
    (&str, &BTreeMap<String, String>),
    &BTreeMap<String, AskedPackage>,
    &Preferred,
) -> Result<Solved, PinProblem>;

const ORIGINS: &str = "[origins]";

/// The names of scripts are the widest, but for the groups of Java.
fn is_usual_name(name: &str) -> bool {
    name.split(':').all(js::is_name)
}

const PYTHON: Description = Description {
    name: "python",
    kit: "python",
    package_url_kind: "pypi",
    differs_by_system: true,
    has_features: true,
    has_default_features: false,
    names_files: false,
    wants_one_version: false,
    takes_oldest: false,
    sends_secret_bare: false,
    between: ",",
    spelled: python::normal_name,
    is_name: is_usual_name,
    measured: Some(Measured {
        fact: "python",
        tools: &["python3", "python"],
        numbers: 2,
        counts_c_library_version: true,
        is_needed: true,
    }),
    unknown: Unknown {
        looked_in: "looked in nubrik.toml, PIP_INDEX_URL, and the `index-url` of pip's configuration files",
        how_known: "`pip install --help` prints the one that pip asks, after `--index-url`",
        example: "python = \"https://HOST/simple\"",
        table: ORIGINS,
    },
    origins: clients::python,
    client: Some(client_defaults::PYTHON),
    resolve: |desk, (system, facts), asked, preferred| {
        let interpreter = python::Interpreter::of_facts(system, facts)?;
        python::resolve(desk, &interpreter, asked, preferred)
    },
    newest: python::newest,
    locate: python::locate,
};

const JAVA: Description = Description {
    name: "java",
    kit: "java",
    package_url_kind: "generic",
    differs_by_system: false,
    has_features: false,
    has_default_features: false,
    names_files: false,
    wants_one_version: true,
    takes_oldest: false,
    sends_secret_bare: false,
    between: ",",
    spelled: str::to_owned,
    is_name: is_usual_name,
    measured: None,
    unknown: Unknown {
        looked_in: "looked in nubrik.toml, and for a mirror in ~/.m2/settings.xml",
        how_known: "packages of a system may install a repository in a folder, which will do: \"file:///FOLDER\"",
        example: "java = \"https://HOST/PATH\"",
        table: ORIGINS,
    },
    origins: clients::java,
    client: None,
    resolve: |desk, _, asked, preferred| java::resolve(desk, asked, preferred),
    newest: java::newest,
    locate: java::locate,
};

const JS: Description = Description {
    name: "js",
    kit: "js",
    package_url_kind: "npm",
    differs_by_system: true,
    has_features: false,
    has_default_features: false,
    names_files: false,
    wants_one_version: false,
    takes_oldest: false,
    sends_secret_bare: false,
    between: " ",
    spelled: str::to_owned,
    is_name: is_usual_name,
    measured: Some(Measured {
        fact: "node",
        tools: &["node"],
        numbers: 1,
        counts_c_library_version: false,
        is_needed: false,
    }),
    unknown: Unknown {
        looked_in: "looked in nubrik.toml, npm_config_registry, and the `registry` of .npmrc here and in your folder",
        how_known: "`npm config get registry` prints the one that npm asks",
        example: "js = \"https://HOST/\"",
        table: ORIGINS,
    },
    origins: clients::js,
    client: Some(client_defaults::JS),
    resolve: |desk, (system, facts), asked, preferred| {
        js::resolve(desk, system, facts, asked, preferred)
    },
    newest: js::newest,
    locate: js::locate,
};

const RUST: Description = Description {
    name: "rust",
    kit: "rust",
    package_url_kind: "cargo",
    differs_by_system: true,
    has_features: true,
    has_default_features: true,
    names_files: false,
    wants_one_version: false,
    takes_oldest: false,
    sends_secret_bare: true,
    between: ",",
    spelled: str::to_owned,
    is_name: is_usual_name,
    measured: Some(Measured {
        fact: "rustc",
        tools: &["rustc"],
        numbers: 2,
        counts_c_library_version: false,
        is_needed: false,
    }),
    unknown: Unknown {
        looked_in: "looked in nubrik.toml, and for a replaced source in .cargo/config.toml here, above, and in CARGO_HOME",
        how_known: "the folders below registry/index in CARGO_HOME are named after the host that is asked",
        example: "rust = \"https://HOST/\"",
        table: ORIGINS,
    },
    origins: clients::rust,
    client: Some(client_defaults::RUST),
    resolve: |desk, (system, facts), asked, preferred| {
        rust::resolve(desk, system, facts, asked, preferred)
    },
    newest: rust::newest,
    locate: rust::locate,
};

const GO: Description = Description {
    name: "go",
    kit: "go",
    package_url_kind: "golang",
    differs_by_system: false,
    has_features: false,
    has_default_features: false,
    names_files: false,
    wants_one_version: false,
    takes_oldest: true,
    sends_secret_bare: false,
    between: ",",
    spelled: str::to_owned,
    is_name: go::is_go_path,
    measured: None,
    unknown: Unknown {
        looked_in: "looked in nubrik.toml, GOPROXY, the file of `go env -w`, and the go.env of the Go that is on the path",
        how_known: "`go env GOPROXY` prints the proxies that go asks; `direct` and `off` are none",
        example: "go = \"https://HOST\"",
        table: ORIGINS,
    },
    origins: go_client::proxies,
    client: Some(client_defaults::GO),
    resolve: |desk, _, asked, preferred| go::resolve(desk, asked, preferred),
    newest: go::newest,
    locate: go::locate,
};

const IMAGES: Description = Description {
    name: "images",
    kit: "images",
    package_url_kind: "oci",
    differs_by_system: true,
    has_features: false,
    has_default_features: false,
    names_files: false,
    wants_one_version: true,
    takes_oldest: false,
    sends_secret_bare: false,
    between: ",",
    spelled: str::to_owned,
    is_name: nubrik_images::is_image_name,
    measured: None,
    unknown: Unknown {
        looked_in: "looked in nubrik.toml",
        how_known: "a registry of images answers below its address at `v2/`",
        example: "images = \"https://HOST\"",
        table: ORIGINS,
    },
    origins: |_| Ok(Vec::new()),
    client: None,
    resolve: |desk, (system, _), asked, preferred| images::resolve(desk, system, asked, preferred),
    // A tag that moved shows when it is asked again.
    newest: |_, _| Ok(None),
    locate: images::locate,
};

const ARCHIVE: Description = Description {
    name: "archive",
    kit: "archives",
    package_url_kind: "generic",
    differs_by_system: false,
    has_features: false,
    has_default_features: false,
    names_files: true,
    wants_one_version: true,
    takes_oldest: false,
    sends_secret_bare: false,
    between: ",",
    spelled: str::to_owned,
    is_name: is_usual_name,
    measured: None,
    unknown: Unknown {
        looked_in: "looked below [origins.archive] in nubrik.toml",
        how_known: "each site has the name of what is pinned from it",
        example: "NAME = \"https://HOST/FOLDER/\"",
        table: "[origins.archive]",
    },
    origins: |_| Ok(Vec::new()),
    client: None,
    resolve: |desk, _, asked, preferred| plain::resolve(desk, asked, preferred),
    // What a site lists is known with the pattern of names.
    newest: |_, _| Ok(None),
    locate: plain::locate,
};

impl Registry {
    /// What is special about it.
    pub fn description(self) -> &'static Description {
        match self {
            Registry::Python => &PYTHON,
            Registry::Java => &JAVA,
            Registry::Js => &JS,
            Registry::Rust => &RUST,
            Registry::Go => &GO,
            Registry::Images => &IMAGES,
            Registry::Archive => &ARCHIVE,
        }
    }

    /// Its name in `pins.toml`, in `[origins]` and on the command line: that of the kit, but for
    /// plain archives.
    pub fn name(self) -> &'static str {
        self.description().name
    }

    /// The registry of this name.
    pub fn named(name: &str) -> Option<Registry> {
        Registry::ALL
            .into_iter()
            .find(|registry| registry.name() == name)
    }

    /// The registry that a name means which people know it by.
    pub fn meant(name: &str) -> Option<Registry> {
        Some(match name {
            "pypi" => Registry::Python,
            "npm" => Registry::Js,
            "crates" | "crates.io" => Registry::Rust,
            "golang" => Registry::Go,
            "jvm" | "kotlin" => Registry::Java,
            _ => return None,
        })
    }

    /// The registry whose packages a kit gives, by the kit's name.
    pub fn of_kit(kit: &str) -> Option<Registry> {
        Registry::ALL
            .into_iter()
            .find(|registry| registry.description().kit == kit)
    }

    /// Says where an address of it was looked for, and how to give one.
    pub(crate) fn unknown(self, problem: PinProblem) -> PinProblem {
        let Unknown {
            looked_in,
            how_known,
            example,
            table,
        } = &self.description().unknown;
        problem
            .note(*looked_in)
            .note(*how_known)
            .mend(format!("{example}   below {table} in nubrik.toml"))
    }

    /// Two requirements of one package as one that demands both; where a package has one version by
    /// its nature, the first one.
    pub fn both(self, first: &str, second: &str) -> String {
        let row = self.description();
        if row.wants_one_version {
            first.to_owned()
        } else {
            format!("{first}{}{second}", row.between)
        }
    }
}

impl fmt::Display for Registry {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_registry_is_found_by_its_name_and_by_its_kit() {
        for registry in Registry::ALL {
            assert_eq!(Registry::named(registry.name()), Some(registry));
            assert_eq!(Registry::of_kit(registry.description().kit), Some(registry));
        }
        assert_eq!(Registry::named("fortran"), None);
    }

    #[test]
    fn requirements_hold_together_as_each_registry_writes_them() {
        assert_eq!(Registry::Js.both(">=1", "<3"), ">=1 <3");
        assert_eq!(Registry::Rust.both(">=1", "<3"), ">=1,<3");
        assert_eq!(Registry::Java.both("1.2", "1.3"), "1.2");
    }
}
