//! Other people's code, version by version: where registries are, what they publish, which versions
//! fit together, and the file that says so. Nothing of it is installed or run.
//!
//! ```
//! let pins = nubrik_pins::Pins::read("format = 1\n")?;
//! assert!(pins.shelves.is_empty());
//! # Ok::<(), nubrik_pins::PinProblem>(())
//! ```

mod bindings;
mod changes;
mod client_defaults;
mod client_files;
mod clients;
mod desk;
mod explain;
mod file;
mod gathering;
mod go;
mod go_client;
mod images;
mod java;
mod js;
mod links;
mod locked;
mod origin;
mod origins;
mod pages;
mod pinning;
mod plain;
mod problem;
mod pushing;
mod python;
mod registries;
mod registry;
mod rust;
mod solved;
mod unreadable;
mod wishes;

pub use bindings::BoundPackages;
pub use changes::{NewerVersion, PinChange, newer_versions};
pub use desk::{ARCHIVES_FOLDER, Desk, DeskNews, HeldArchive, held_archive, hex_of};
pub use file::{
    ASKED, Archive, AskedPackage, Need, PINS_FILE, PINS_LIMIT, Pin, Pins, Shelf, pin_id,
};
pub use go::{BuildConstraint, GoManifest, GoSource, is_go_path, is_standard_import};
pub use js::is_name as is_js_name;
pub use locked::LockedVersions;
pub use origin::{ClientQuestion, ClientSettings, Origin};
pub use origins::{OriginSetting, OriginSettings, Origins, asked_for_origins};
pub use pinning::{Free, newest, resolve};
pub use problem::PinProblem;
pub use pushing::{ImageAddress, NotPushed, PushedImage, push_image};
pub use python::{Interpreter, normal_name as python_name};
pub use registries::{Description, Measured};
pub use registry::Registry;
pub use unreadable::Unreadable;
pub use wishes::{PinMachine, PinWish, WishProblem, WishedPins, registry_of_word};
