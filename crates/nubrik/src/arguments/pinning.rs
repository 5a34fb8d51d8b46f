//! What `nubrik pins` takes.

use std::path::PathBuf;

use clap::{Args, Subcommand};

/// What is done with pins.
#[derive(Subcommand, Clone)]
pub enum PinsWork {
    /// Pin an exact version of a package, and of all that it needs
    Add(PinRequest),
    /// Remove a package from `pins.toml`, and everything that nothing else needs
    Drop {
        /// The registry: python, java, js, rust, go or archive
        #[arg(value_name = "REGISTRY")]
        registry: String,
        /// The package
        #[arg(value_name = "NAME")]
        name: String,
    },
    /// Pin the newest versions that the requirements allow
    Update {
        /// The package; all by default
        #[arg(value_name = "NAME")]
        name: Option<String>,
        /// Only pins of this registry
        #[arg(long, value_name = "REGISTRY")]
        registry: Option<String>,
    },
    /// Make the pins fit what `pins.toml` asks for, and change as few versions as possible
    Settle,
    /// List newer versions; fail if the requirements allow one
    Newer,
    /// Explain why a package is pinned
    Why {
        /// The package
        #[arg(value_name = "NAME")]
        name: String,
        /// Only pins of this registry
        #[arg(long, value_name = "REGISTRY")]
        registry: Option<String>,
    },
    /// Collect all pinned archives in a folder, for builds without a network
    Vendor {
        /// The folder
        #[arg(value_name = "FOLDER")]
        folder: PathBuf,
    },
}

/// A package to pin, or a system to pin for.
#[derive(Args, Clone, Default)]
pub struct PinRequest {
    /// The registry: python, java, js, rust, go or archive
    #[arg(value_name = "REGISTRY")]
    pub registry: String,
    /// The package; may be left out with --system or --python
    #[arg(value_name = "NAME")]
    pub name: Option<String>,
    /// The versions that are allowed, as the registry writes them: ">=8,<9" (python), "[1.2,2)"
    /// (java), "^4" (js), "1.2" (rust), ">=v1.2.0" (go); any by default
    #[arg(value_name = "REQUIREMENT")]
    pub requirement: Vec<String>,
    /// Optional features to enable, comma-separated (python calls them extras)
    #[arg(long = "with", value_name = "FEATURE", value_delimiter = ',')]
    pub features: Vec<String>,
    /// File name pattern of plain archives, with {version} in it: "lua-{version}.tar.gz"
    #[arg(long, value_name = "PATTERN")]
    pub file: Option<String>,
    /// Without its default features
    #[arg(long = "without-defaults")]
    pub bare: bool,
    /// Also pin for this system, such as linux-aarch64; may be repeated
    #[arg(long, value_name = "SYSTEM")]
    pub system: Vec<String>,
    /// The version of Python that packages are for; by default that of this machine
    #[arg(long, value_name = "VERSION")]
    pub python: Option<String>,
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

/// What is done with images.
#[derive(Subcommand)]
pub enum ImageWork {
    /// Push an image to a registry: what that has already is not sent
    Push {
        /// The archive of an OCI layout, or its folder
        #[arg(value_name = "ARCHIVE")]
        archive: PathBuf,
        /// Where it goes: https://HOST/NAME:TAG
        #[arg(value_name = "ADDRESS")]
        to: String,
        /// The variable that holds a token, or a user and a password with `:` between
        #[arg(long, value_name = "VARIABLE")]
        secret: Option<String>,
    },
}
