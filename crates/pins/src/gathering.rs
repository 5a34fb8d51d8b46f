//! Archives that `pins.toml` names: where each one is, and all of them in one folder.

use std::fs::{self, File};
use std::io;
use std::path::Path;

use nubrik_disk::Below;
use nubrik_web::{Address, Credential};

use crate::desk::{Desk, WantedArchive, has_digest, held, held_name};
use crate::file::Archive;
use crate::{PinProblem, Registry};

impl Desk<'_> {
    /// Where an archive is that `pins.toml` names by its path below a registry, and who asks there.
    ///
    /// # Errors
    /// When no origin of the registry has it, or one cannot be asked.
    pub fn locate(
        &self,
        registry: Registry,
        path: &str,
    ) -> Result<(Address, Option<Credential>), PinProblem> {
        // Folders have archives where their paths say.
        if let Some(there) = self.near(registry, path) {
            return Ok((there, None));
        }
        let origins = self.origins(registry)?;
        let found = (registry.description().locate)(self, path)?;
        let Some((address, origin)) = found else {
            let asked: Vec<String> = origins
                .iter()
                .map(|origin| origin.address.to_string())
                .collect();
            let problem = PinProblem::new(format!(
                "the registry `{registry}` has no `{path}` any more"
            ));
            return Err(problem.note(format!("asked {}", asked.join(", "))));
        };
        let credential = origin
            .credential
            .filter(|_| address.host() == origin.address.host());
        Ok((address, credential))
    }

    /// Puts an archive into a folder that is laid out like a registry, below the registry's name.
    /// Says whether it was not there.
    ///
    /// # Errors
    /// When it cannot be had, or is another one than its digest says.
    pub fn gather(
        &self,
        registry: Registry,
        archive: &Archive,
        what: &str,
        folder: &Path,
    ) -> Result<bool, PinProblem> {
        let cannot = |e: io::Error| PinProblem::new(format!("cannot copy {what}: {e}"));
        // The file may be made by anybody: its paths stay below the folder.
        let is_inside = archive
            .path
            .split('/')
            .all(|part| !matches!(part, "" | "." | ".."));
        if !is_inside {
            return Err(PinProblem::new(format!(
                "`{}` is no path of an archive",
                archive.path
            )));
        }
        let name = format!("{}/{}", registry.name(), archive.path);
        let to = folder.join(&name);
        if has_digest(&to, &archive.digest).is_some() {
            return Ok(false);
        }
        let path = match held(&self.archives, &archive.digest) {
            Some(_) => self.archives.join(held_name(&archive.digest)),
            None => {
                let (address, credential) = self.locate(registry, &archive.path)?;
                let (digest, size) = (Some(archive.digest.clone()), Some(archive.size));
                let wanted = WantedArchive {
                    what: what.to_owned(),
                    address,
                    credential,
                    digest,
                    size,
                };
                self.archive(&wanted)?.path
            }
        };
        let mut from = nubrik_disk::open_file(&path).map_err(cannot)?;
        let copy = |to: &mut File| nubrik_disk::copy_file(&mut from, to);
        // Below the workspace no link is followed: a checkout may have put one there.
        match folder.strip_prefix(&self.root).ok().and_then(Path::to_str) {
            Some(inner) => {
                let name = if inner.is_empty() {
                    name
                } else {
                    format!("{inner}/{name}")
                };
                Below::new(&self.root).and_then(|root| root.replace(&name, copy))
            }
            None => {
                fs::create_dir_all(folder).and_then(|()| Below::new(folder)?.replace(&name, copy))
            }
        }
        .map_err(cannot)?;
        Ok(true)
    }
}
