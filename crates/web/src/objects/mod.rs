//! Whole objects below one address: taken, or a part of them, and put. Each has a deadline for all
//! of it, so that a server that says little for long is given up. Each protocol is a file of its
//! own, which implements [`ObjectStore`].

mod folder;
mod server;

use std::fmt::Debug;
use std::ops::Range;
use std::time::Instant;

use folder::FolderObjects;
use server::ServerObjects;

use crate::client::TlsFiles;
use crate::signing::StorageKey;
use crate::{Address, Credential, Trouble};

/// A protocol by which objects are had. Their names were checked: none leads out.
trait ObjectStore: Debug + Send + Sync {
    /// The bytes of an object, at most `limit`, or some of them; not after a time, if one is given.
    fn get(
        &self,
        name: &str,
        part: Option<&Range<u64>>,
        limit: u64,
        until: Option<Instant>,
    ) -> Result<Vec<u8>, Trouble>;

    /// Puts an object, in place of what was there.
    fn put(&self, name: &str, bytes: &[u8]) -> Result<(), Trouble>;

    /// Removes an object, if it is there.
    fn remove(&self, name: &str) -> Result<(), Trouble>;

    /// Waits for the turn to change an object; nothing where the protocol has no turns.
    fn turn_of(&self, name: &str) -> Result<Option<Box<dyn ObjectTurn>>, Trouble>;

    /// Removes the objects below a name that nobody put anew since a time, in seconds since 1970.
    /// Gives how many there were; none where the protocol does not list objects.
    fn remove_older(&self, name: &str, than: u64) -> Result<usize, Trouble>;
}

/// The turn to change an object. Dropping it gives it to the next one.
pub trait ObjectTurn: Debug + Send {}

/// Who asks for objects.
#[derive(Clone, Debug)]
pub enum Asker {
    /// Nobody in particular.
    Anybody,
    /// Someone with a credential.
    Known(Credential),
    /// Someone whose requests are signed, as object storage with the S3 protocol wants it.
    Signing(StorageKey),
}

/// A place with objects by their names: a folder, or a server that knows GET and PUT.
#[derive(Debug)]
pub struct Objects {
    base: Address,
    store: Box<dyn ObjectStore>,
}

/// The address of an object, if its name leads to one below the place.
fn below(base: &Address, name: &str) -> Result<Address, Trouble> {
    base.below(name)
        .ok_or_else(|| Trouble::failed(format!("`{name}` is no name of an object")))
}

impl Objects {
    /// The objects below an address.
    pub fn new(base: Address, asker: Asker, tls: TlsFiles) -> Objects {
        let store: Box<dyn ObjectStore> = match base.file() {
            Some(top) => Box::new(FolderObjects { top }),
            None => Box::new(ServerObjects::new(base.clone(), asker, tls)),
        };
        Objects { base, store }
    }

    /// Where they are.
    pub fn base(&self) -> &Address {
        &self.base
    }

    /// The bytes of an object, or some of them; `None` where there is no such object.
    ///
    /// # Errors
    /// When they cannot be had in time, or there are more than `limit`, or fewer than a part has.
    pub fn get(
        &self,
        name: &str,
        part: Option<Range<u64>>,
        limit: u64,
    ) -> Result<Option<Vec<u8>>, Trouble> {
        self.get_until(name, part, limit, None)
    }

    /// The same, if that does not take until a time.
    ///
    /// # Errors
    /// As there, and when it takes longer.
    pub fn get_until(
        &self,
        name: &str,
        part: Option<Range<u64>>,
        limit: u64,
        until: Option<Instant>,
    ) -> Result<Option<Vec<u8>>, Trouble> {
        below(&self.base, name)?;
        let bytes = match self.store.get(name, part.as_ref(), limit, until) {
            Ok(bytes) => bytes,
            Err(Trouble::NotThere) => return Ok(None),
            Err(trouble) => return Err(trouble),
        };
        match &part {
            Some(part) if bytes.len() as u64 != part.end - part.start => Err(Trouble::failed(
                "it gave another number of bytes than asked for",
            )),
            _ => Ok(Some(bytes)),
        }
    }

    /// Puts an object, in place of what was there.
    ///
    /// # Errors
    /// When it cannot be put in time.
    pub fn put(&self, name: &str, bytes: &[u8]) -> Result<(), Trouble> {
        below(&self.base, name)?;
        self.store.put(name, bytes)
    }

    /// Waits until nobody else has the turn to change an object, where they lie in a folder, and
    /// takes it; nothing elsewhere.
    ///
    /// # Errors
    /// When that takes too long, or nothing can be written there.
    pub fn turn_of(&self, name: &str) -> Result<Option<Box<dyn ObjectTurn>>, Trouble> {
        below(&self.base, name)?;
        self.store.turn_of(name)
    }

    /// Removes an object, if it is there.
    ///
    /// # Errors
    /// When it cannot be removed in time.
    pub fn remove(&self, name: &str) -> Result<(), Trouble> {
        below(&self.base, name)?;
        self.store.remove(name)
    }

    /// Removes the objects below a name that nobody put anew since a time, in seconds since 1970,
    /// where they lie in a folder; elsewhere nothing is removed, since not all servers tell what
    /// they have. Gives how many there were.
    ///
    /// # Errors
    /// When one of them cannot be removed.
    pub fn remove_older(&self, name: &str, than: u64) -> Result<usize, Trouble> {
        below(&self.base, name)?;
        self.store.remove_older(name, than)
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use std::fs;

    use super::*;

    #[test]
    fn a_folder_has_objects() {
        let folder = tempfile::tempdir().unwrap();
        let objects = Objects::new(
            Address::of_folder(folder.path()).unwrap(),
            Asker::Anybody,
            TlsFiles::default(),
        );
        assert_eq!(objects.get("a/b", None, 10).unwrap(), None);
        objects.put("a/b", b"high water").unwrap();
        assert_eq!(
            objects.get("a/b", None, 10).unwrap().unwrap(),
            b"high water"
        );
        assert_eq!(
            objects.get("a/b", Some(5..10), 10).unwrap().unwrap(),
            b"water"
        );
        assert!(objects.get("a/b", None, 9).is_err());
        assert!(objects.get("a/b", Some(5..11), 10).is_err());
        assert!(objects.put("../b", b"").is_err() && objects.get("/etc/passwd", None, 10).is_err());
        assert_eq!(fs::read_dir(folder.path().join("a")).unwrap().count(), 1);
    }

    #[test]
    fn links_in_a_folder_of_objects_lead_nowhere() {
        let (folder, home) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let objects = Objects::new(
            Address::of_folder(folder.path()).unwrap(),
            Asker::Anybody,
            TlsFiles::default(),
        );
        let name = "ab".repeat(32);
        fs::create_dir(home.path().join("deep")).unwrap();
        for precious in [name.clone(), format!("deep/{name}")] {
            fs::write(home.path().join(precious), "precious").unwrap();
        }
        std::os::unix::fs::symlink(home.path(), folder.path().join("jobs")).unwrap();
        let (in_link, new) = (format!("jobs/{name}"), u64::MAX >> 2);
        assert!(
            objects.put(&in_link, b"x").is_err()
                && !matches!(objects.get(&in_link, None, 10), Ok(Some(_)))
        );
        assert!(objects.remove(&in_link).is_err());
        assert!(objects.remove_older("jobs", new).is_err());
        fs::remove_file(folder.path().join("jobs")).unwrap();
        objects.put(&format!("jobs/ab/{name}"), b"old").unwrap();
        objects.put("jobs/notes", b"of somebody").unwrap();
        std::os::unix::fs::symlink(home.path(), folder.path().join("jobs/link")).unwrap();
        assert_eq!(objects.remove_older("jobs", new).unwrap(), 1);
        assert_eq!(
            objects.get("jobs/notes", None, 20).unwrap().unwrap(),
            b"of somebody"
        );
        assert_eq!(
            fs::read(home.path().join(format!("deep/{name}"))).unwrap(),
            b"precious"
        );
        assert_eq!(fs::read(home.path().join(name)).unwrap(), b"precious");
    }
}
