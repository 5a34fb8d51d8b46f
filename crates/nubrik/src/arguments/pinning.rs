//! What `nubrik pin` takes.

use std::path::PathBuf;

use clap::Args;

/// What is pinned, or asked about pins.
#[derive(Args, Clone, Default)]
pub struct Pinning {
    /// The registry: python, java, js, rust, go or archive; without any, everything that `pins.toml` asks for
    #[arg(value_name = "REGISTRY")]
    pub registry: Option<String>,
    /// The package
    #[arg(value_name = "NAME", conflicts_with_all = ["update", "check", "why", "gather"])]
    pub name: Option<String>,
    /// Which versions will do, as the registry writes it: ">=8,<9" (python), "[1.2,2)" (java), "^4" (js), "1.2" (rust), ">=v1.2.0" (go); any by default
    #[arg(value_name = "REQUIREMENT")]
    pub requirement: Vec<String>,
    /// Features of it that are wanted, with `,` between them (python calls them extras)
    #[arg(long = "with", value_name = "FEATURE", value_delimiter = ',')]
    pub features: Vec<String>,
    /// How plain archives are called, with {version} in it: "lua-{version}.tar.gz"
    #[arg(long, value_name = "PATTERN")]
    pub file: Option<String>,
    /// Leave features off that are usually on
    #[arg(long = "without-defaults")]
    pub bare: bool,
    /// Take the newest versions that will do, of everything or of one package
    #[arg(long, value_name = "NAME", conflicts_with_all = ["check", "why", "gather"])]
    pub update: Option<Option<String>>,
    /// Change nothing; say what is newer, and fail if the requirements allow it
    #[arg(long, conflicts_with_all = ["why", "gather"])]
    pub check: bool,
    /// Say why a package is pinned
    #[arg(long, value_name = "NAME", conflicts_with = "gather")]
    pub why: Option<String>,
    /// Collect all archives in a folder, from which this can be built without a network
    #[arg(long, value_name = "FOLDER")]
    pub gather: Option<PathBuf>,
    /// Pin for this system, too, such as linux-aarch64; may be repeated
    #[arg(long, value_name = "SYSTEM")]
    pub system: Vec<String>,
    /// The version of Python that packages are for; that of this machine by default
    #[arg(long, value_name = "VERSION")]
    pub python: Option<String>,
}

impl Pinning {
    /// An option that was given and says nothing without a registry.
    pub fn needs_registry(&self) -> Option<&'static str> {
        let given = [
            ("--with", !self.features.is_empty()),
            ("--file", self.file.is_some()),
            ("--without-defaults", self.bare),
            ("--system", !self.system.is_empty()),
            ("--python", self.python.is_some()),
        ];
        given.into_iter().find(|(_, is_given)| *is_given).map(|(name, _)| name)
    }
}

/// An open format of bills of materials.
#[derive(clap::ValueEnum, Clone, Copy, PartialEq, Eq, Debug, Default)]
pub enum SbomFormat {
    /// CycloneDX 1.5
    #[default]
    Cyclonedx,
    /// SPDX 2.3
    Spdx,
}
