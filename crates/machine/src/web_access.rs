//! How other machines are reached: where registries are, and what asks them.

use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use std::{fs, io};

use nubrik_bytes::Digest;
use nubrik_disk::read_file;
use nubrik_pins::{
    BoundPackages, ClientQuestion, ClientSettings, OriginSettings, Origins, PINS_FILE, PINS_LIMIT,
    PinProblem, Pins,
};
use nubrik_web::{Agreement, Agreements, Client};
use parking_lot::Mutex;

use crate::client_answers;
use crate::search_path::on_persons_path;

/// The most that a file of settings may hold, in bytes.
const LIMIT: u64 = 4 << 20;

/// Where registries are, found out when somebody asks, and the client that asks them.
#[derive(Debug)]
pub struct WebAccess {
    root: PathBuf,
    pub(crate) settings: OriginSettings,
    origins: OnceLock<Origins>,
    client: OnceLock<Client>,
    /// To which origins packages are bound, and the digest of the `pins.toml` that says so.
    bound: Mutex<Option<(Digest, Arc<BoundPackages>)>>,
}

impl WebAccess {
    pub(crate) fn new(root: &Path) -> WebAccess {
        WebAccess {
            root: root.to_owned(),
            settings: OriginSettings::default(),
            origins: OnceLock::new(),
            client: OnceLock::new(),
            bound: Mutex::default(),
        }
    }

    /// Which variables a checkout wants to be sent where: for its origins, and in files of ordinary
    /// clients that it brings along.
    pub fn asked(&self) -> Vec<Agreement> {
        nubrik_pins::asked_for_origins(
            &self.settings,
            &ThisMachine {
                root: self.root.clone(),
            },
        )
    }

    /// Where registries are.
    pub fn origins(&self) -> &Origins {
        let around = || {
            Arc::new(ThisMachine {
                root: self.root.clone(),
            })
        };
        self.origins
            .get_or_init(|| Origins::find(&self.settings, around()))
    }

    /// To which origins packages are bound by the `pins.toml` that is there now. Its text is parsed
    /// again only where it changed.
    ///
    /// # Errors
    /// When it cannot be read, or does not hold together.
    pub fn bound_packages(&self) -> Result<Arc<BoundPackages>, PinProblem> {
        let cannot =
            |e: &dyn std::fmt::Display| PinProblem::new(format!("cannot read {PINS_FILE}: {e}"));
        let bytes = match read_file(&self.root.join(PINS_FILE), PINS_LIMIT) {
            Ok(bytes) => bytes,
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(Arc::default()),
            Err(e) => return Err(cannot(&e)),
        };
        let digest = Digest::of(&bytes);
        let mut kept = self.bound.lock();
        if let Some((of, bound)) = &*kept
            && *of == digest
        {
            return Ok(bound.clone());
        }
        let pins = Pins::read(str::from_utf8(&bytes).map_err(|e| cannot(&e))?)?;
        let bound = Arc::new(BoundPackages::of(&pins));
        *kept = Some((digest, bound.clone()));
        Ok(bound)
    }

    /// What asks.
    pub fn client(&self) -> &Client {
        self.client
            .get_or_init(|| Client::new(&self.origins().certificates))
    }
}

/// The environment and the files of this machine.
struct ThisMachine {
    root: PathBuf,
}

impl ClientSettings for ThisMachine {
    fn variable(&self, name: &str) -> Option<String> {
        std::env::var(name).ok().filter(|value| !value.is_empty())
    }

    fn text(&self, path: &Path) -> Option<String> {
        String::from_utf8(read_file(path, LIMIT).ok()?).ok()
    }

    fn program(&self, name: &str) -> Option<PathBuf> {
        fs::canonicalize(on_persons_path(name)?).ok()
    }

    fn asks_no_client(&self) -> Option<&'static str> {
        client_answers::forbidden_by()
    }

    fn answer(&self, question: &ClientQuestion) -> Option<String> {
        client_answers::answer(question, &self.root)
    }

    fn root(&self) -> PathBuf {
        self.root.clone()
    }

    fn agrees(&self, asked: &Agreement) -> bool {
        Agreements::of_this_person().hold(asked)
    }
}
