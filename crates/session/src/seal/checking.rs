//! Whether what a seal tells of is as it was, by the metadata of everything that was looked at.

use super::{LINK, Roles, Seal, env_digest, signature_bytes};
use crate::machine::Machine;
use crate::probes;
use nubrik_bytes::Digest;
use nubrik_engine::Signature;
use nubrik_lang::ProbeRequest;
use std::os::fd::OwnedFd;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

/// More changes than this are not worth telling one by one.
pub(crate) const MANY: usize = 5_000;

/// A path that is not what it was.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Change {
    /// Its number in the seal.
    pub number: usize,
    /// Its metadata now.
    pub now: Option<Signature>,
}

/// A folder kept open for a run of paths in and below it: looking up short names is quicker.
#[derive(Default)]
pub(crate) struct Near {
    folder: Vec<u8>,
    handle: Option<OwnedFd>,
}

/// How many paths a thread takes at a time.
pub(crate) const PART: usize = 2048;

/// A folder is opened where as many paths as this lie below it: two calls more, and each name shorter.
pub(crate) const RUN: usize = 12;

impl Seal {
    /// Looks at everything again. `None` where more changed than can be told one by one.
    pub fn check(&self, machine: &Machine, threads: usize) -> Option<Vec<Change>> {
        if self.env.iter().any(|(name, digest)| env_digest(std::env::var(name).ok().as_deref()) != *digest) {
            return None;
        }
        let taken = AtomicUsize::new(0);
        let broken = AtomicBool::new(false);
        let changes = AtomicUsize::new(0);
        // Threads take part after part: some folders are slower to look into than others.
        let look = || {
            let mut near = Near::default();
            let mut found = Vec::new();
            let parts = std::iter::repeat_with(|| taken.fetch_add(PART, Ordering::Relaxed));
            let numbers = parts
                .take_while(|from| *from < self.len())
                .flat_map(|from| from..(from + PART).min(self.len()));
            for number in numbers {
                if broken.load(Ordering::Relaxed) {
                    break;
                }
                let known = self.as_it_lies(number);
                let roles = known.map_or_else(|| self.entry(number).roles, |k| k.1);
                if roles.has(Roles::GONE) {
                    continue;
                }
                let path = plain(self.path_bytes(number));
                let follows = !roles.has(Roles::ITSELF);
                let now = near.check(machine, path, follows, || plain(self.path_bytes(number + RUN)));
                if let (Some((known, _)), Some(now)) = (known, &now)
                    && *known == signature_bytes(now)
                {
                    continue;
                }
                let entry = self.entry(number);
                if entry.signature.map_or(now.is_none(), |known| known.still_holds(now)) {
                    continue;
                }
                found.push(Change { number, now });
                if entry.roles.has(Roles::WHOLE) || changes.fetch_add(1, Ordering::Relaxed) >= MANY {
                    broken.store(true, Ordering::Relaxed);
                }
            }
            found
        };
        let mut all = Vec::new();
        std::thread::scope(|scope| {
            if !self.probes.is_empty() {
                scope.spawn(|| {
                    let again = |(request, digest): &(ProbeRequest, Digest)| {
                        probes::digest_of(&probes::answer(machine, request)) != *digest
                    };
                    if self.probes.iter().any(again) {
                        broken.store(true, Ordering::Relaxed);
                    }
                });
            }
            let running: Vec<_> = (0..threads.max(1)).map(|_| scope.spawn(look)).collect();
            for thread in running {
                match thread.join() {
                    Ok(found) => all.extend(found),
                    Err(_) => broken.store(true, Ordering::Relaxed),
                }
            }
        });
        (!broken.into_inner()).then_some(all)
    }
}

/// The path of an entry, be it a link's own or not.
pub(crate) fn plain(path: &[u8]) -> &[u8] {
    path.strip_prefix(LINK.as_bytes()).unwrap_or(path)
}

/// The deepest folder that both paths are below; empty where there is none but the root.
pub(crate) fn shared_folder<'a>(path: &'a [u8], other: &[u8]) -> &'a [u8] {
    let same = path.iter().zip(other).take_while(|(a, b)| a == b).count();
    path[..same].iter().rposition(|byte| *byte == b'/').map_or(b"", |slash| &path[..slash])
}

impl Near {
    /// Metadata of `path`, where `later` will be asked for [`RUN`] paths after it.
    fn check<'p>(
        &mut self,
        machine: &Machine,
        path: &[u8],
        follows: bool,
        later: impl FnOnce() -> &'p [u8],
    ) -> Option<Signature> {
        let below = |folder: &[u8]| path.strip_prefix(folder).and_then(|rest| rest.strip_prefix(b"/"));
        let rest = self.handle.as_ref().and_then(|_| below(&self.folder));
        if rest.is_none_or(|rest| rest.contains(&b'/')) {
            let shared = shared_folder(path, later());
            if rest.is_none() || shared.len() > self.folder.len() {
                self.handle = if shared.is_empty() { None } else { machine.open_folder(shared) };
                shared.clone_into(&mut self.folder);
            }
        }
        match (&self.handle, below(&self.folder)) {
            (Some(handle), Some(rest)) => Machine::check_at(handle, rest, follows),
            _ => machine.check_below_root(path, follows),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn finds_the_shared_folder() {
        assert_eq!(shared_folder(b"a/b/c", b"a/b/d"), b"a/b");
        assert_eq!(shared_folder(b"a/bc", b"a/bd/x"), b"a");
        assert_eq!(shared_folder(b"a", b"b"), b"");
        assert_eq!(shared_folder(b"/usr/a", b"/usr/b"), b"/usr");
    }
}
