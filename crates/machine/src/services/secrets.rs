//! Values of secrets in what steps and services print and make.

use std::fs::File;
use std::io::{self, Read};
use std::os::fd::OwnedFd;

use nubrik_disk::{Below, TreeFileKind, entries_below, regular};
use nubrik_engine::Lent;
use rustix::fs::{Mode, OFlags};

use super::Loan;
use crate::machine::Machine;

/// A value of fewer characters cannot be distinguished from other text, and is not searched for.
pub(super) const SHORTEST_SECRET: usize = 6;

/// How much of a file is looked at at once, in bytes.
const PART: usize = 1 << 20;

/// A secret that is in something: its name, and where.
pub(crate) type FoundSecret = (String, String);

/// A text in which secrets are replaced by their names.
pub(super) fn without(secrets: &[(String, String)], mut text: Vec<u8>) -> Vec<u8> {
    for (name, value) in secrets
        .iter()
        .filter(|(_, value)| value.len() >= SHORTEST_SECRET)
    {
        let found: Vec<usize> = memchr::memmem::find_iter(&text, value.as_bytes()).collect();
        for at in found.into_iter().rev() {
            text.splice(
                at..at + value.len(),
                format!("[secret {name}]").into_bytes(),
            );
        }
    }
    text
}

impl Machine {
    /// The secret that is in a file below a folder, in its name or in where a link leads, of those
    /// that a loan knows.
    ///
    /// # Errors
    /// When something there cannot be looked at: no one knows then what it tells.
    pub(crate) fn secret_told(&self, folder: &str, lent: &Lent) -> io::Result<Option<FoundSecret>> {
        let Some(loan) = self.house().loan(lent) else {
            return Ok(None);
        };
        let secrets: Vec<&(String, String)> = loan.secrets().collect();
        if secrets.is_empty() {
            return Ok(None);
        }
        let problem =
            |path: &str, e: io::Error| io::Error::new(e.kind(), format!("{folder}/{path}: {e}"));
        let open = self.below().folder(folder).map_err(|e| problem("", e))?;
        for entry in entries_below(&open).map_err(|e| problem("", e))? {
            let in_text = |text: &[u8]| {
                let found = secrets
                    .iter()
                    .find(|(_, value)| memchr::memmem::find(text, value.as_bytes()).is_some());
                found.map(|(name, _)| name.clone())
            };
            let told = match in_text(entry.path.as_bytes()) {
                Some(name) => Some(name),
                None => match &entry.kind {
                    TreeFileKind::File => in_file(&open, &entry.path, &secrets)
                        .map_err(|e| problem(&entry.path, e))?,
                    TreeFileKind::Link(target) => in_text(target.as_bytes()),
                    TreeFileKind::EmptyFolder | TreeFileKind::Odd(_) => None,
                },
            };
            if let Some(name) = told {
                return Ok(Some((name, loan.named_without_secrets(&entry.path))));
            }
        }
        Ok(None)
    }
}

impl Loan {
    fn named_without_secrets(&self, path: &str) -> String {
        String::from_utf8_lossy(&self.without_secrets(path.as_bytes().to_vec())).into_owned()
    }
}

/// The secret that is in a file below an open folder: its name.
fn in_file(
    folder: &OwnedFd,
    path: &str,
    secrets: &[&(String, String)],
) -> io::Result<Option<String>> {
    let (above, name) = path.rsplit_once('/').unwrap_or(("", path));
    let above = Below::of(folder.try_clone()?).folder(above)?;
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let file = rustix::fs::openat(&above, name, flags, Mode::empty())?;
    search(regular(file.into())?, secrets, PART)
}

/// The secret that is in a file, looked at part by part: one may be across two of them.
fn search(
    mut file: File,
    secrets: &[&(String, String)],
    part: usize,
) -> io::Result<Option<String>> {
    let overlap = secrets
        .iter()
        .map(|(_, value)| value.len())
        .max()
        .unwrap_or(1)
        - 1;
    let mut text: Vec<u8> = Vec::new();
    loop {
        let kept = text.len().min(overlap);
        text.drain(..text.len() - kept);
        let read = file.by_ref().take(part as u64).read_to_end(&mut text)?;
        let found = secrets
            .iter()
            .find(|(_, value)| memchr::memmem::find(&text, value.as_bytes()).is_some());
        if read == 0 || found.is_some() {
            return Ok(found.map(|(name, _)| name.clone()));
        }
    }
}

#[cfg(test)]
mod tests {
    use std::io::{Seek, Write};

    use super::*;

    #[test]
    fn secrets_give_way_to_their_names() {
        let secrets = vec![
            ("KEY".to_owned(), "open sesame".to_owned()),
            ("PIN".to_owned(), "12".to_owned()),
        ];
        let text = without(&secrets, b"say open sesame, 12 times open sesame".to_vec());
        assert_eq!(text, b"say [secret KEY], 12 times [secret KEY]");
    }

    #[test]
    fn a_secret_is_found_wherever_a_file_is_cut() {
        let (key, other) = (
            ("KEY".to_owned(), "open sesame".to_owned()),
            ("LONG".to_owned(), "x".repeat(40)),
        );
        for before in 0..40 {
            let mut file = tempfile::tempfile().unwrap();
            file.write_all(format!("{}open sesame and more", "-".repeat(before)).as_bytes())
                .unwrap();
            for part in [1, 3, 16, 1000] {
                file.rewind().unwrap();
                let found = search(file.try_clone().unwrap(), &[&key, &other], part).unwrap();
                assert_eq!(found.as_deref(), Some("KEY"), "{before} {part}");
            }
        }
        let mut file = tempfile::tempfile().unwrap();
        file.write_all(b"open sesam e").unwrap();
        file.rewind().unwrap();
        assert_eq!(search(file, &[&key], 4).unwrap(), None);
    }
}
