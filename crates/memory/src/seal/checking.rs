//! Whether everything that a seal covers is as it was, by the metadata of everything that was
//! looked at.

use std::os::fd::OwnedFd;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use nubrik_bytes::{Digest, Encoder, Layout};
use nubrik_disk::{Below, Signature};
use nubrik_lang::SampleRequest;
use nubrik_source::FilePath;

use super::{Roles, Seal, env_digest};

/// More changes than this are not worth telling one by one.
pub const MANY: usize = 5_000;

/// A path that is not what it was.
#[derive(Clone, Copy, Debug)]
pub struct Change {
    /// Its number in the seal.
    pub number: usize,
    /// Its metadata now.
    pub now: Option<Signature>,
}

/// Which paths of a seal are to be looked at.
#[derive(Clone, Copy, Debug)]
pub enum ToLookAt<'n> {
    /// All of them.
    All,
    /// Those with these numbers: all others are known to be as they were.
    Only(&'n [u32]),
}

/// A folder kept open for a run of paths in and below it: looking up short names is quicker.
#[derive(Default)]
pub struct Near {
    folder: Vec<u8>,
    handle: Option<OwnedFd>,
}

/// How many paths a thread takes at a time.
pub const PART: usize = 2048;

/// A folder is opened where as many paths as this lie below it: two calls more, and each name
/// shorter.
pub const RUN: usize = 12;

impl Seal {
    /// Numbers of entries to look at, part after part, while others take parts from `taken`, too.
    fn shared_numbers(
        &self,
        which: ToLookAt<'_>,
        taken: &AtomicUsize,
    ) -> impl Iterator<Item = usize> {
        let count = match which {
            ToLookAt::All => self.len(),
            ToLookAt::Only(numbers) => numbers.len(),
        };
        std::iter::repeat_with(|| taken.fetch_add(PART, Ordering::Relaxed))
            .take_while(move |from| *from < count)
            .flat_map(move |from| from..(from + PART).min(count))
            .map(move |place| match which {
                ToLookAt::All => place,
                ToLookAt::Only(numbers) => numbers[place] as usize,
            })
    }

    /// Looks at what may have changed: paths from the workspace's root, and samples, which `ask`
    /// asks for a digest of their answer.
    /// `None` where more changed than can be listed one by one.
    pub fn check(
        &self,
        root: &Below,
        which: ToLookAt<'_>,
        ask: impl Fn(&SampleRequest) -> Digest + Sync,
        threads: usize,
    ) -> Option<Vec<Change>> {
        let is_other = |(name, digest): &(String, Option<Digest>)| {
            env_digest(std::env::var(name).ok().as_deref()) != *digest
        };
        // Who asks about paths that are not there means another seal.
        let is_of_other_seal = matches!(which, ToLookAt::Only(numbers)
            if numbers.iter().any(|n| *n as usize >= self.len()));
        if is_of_other_seal || self.env.iter().any(is_other) {
            return None;
        }
        let taken = AtomicUsize::new(0);
        let broken = AtomicBool::new(false);
        let changes = AtomicUsize::new(0);
        // Threads take part after part: some folders are slower to look into than others.
        let look = || {
            let mut looker = Looker {
                seal: self,
                root,
                near: Near::default(),
                bytes: Encoder::new(),
            };
            let mut found = Vec::new();
            for number in self.shared_numbers(which, &taken) {
                if broken.load(Ordering::Relaxed) {
                    break;
                }
                let Some((change, roles)) = looker.look(number) else {
                    continue;
                };
                found.push(change);
                if roles.has(Roles::WHOLE) || changes.fetch_add(1, Ordering::Relaxed) >= MANY {
                    broken.store(true, Ordering::Relaxed);
                }
            }
            found
        };
        let mut all = Vec::new();
        std::thread::scope(|scope| {
            if !self.samples.is_empty() {
                scope.spawn(|| {
                    if self
                        .samples
                        .iter()
                        .any(|(request, digest)| ask(request) != *digest)
                    {
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

/// Looks at paths of a seal, one after the other.
struct Looker<'s> {
    seal: &'s Seal,
    root: &'s Below,
    near: Near,
    /// Room for the bytes of metadata.
    bytes: Encoder,
}

impl Looker<'_> {
    /// What changed of the path with a number, with its roles; `None` where it is as it was.
    fn look(&mut self, number: usize) -> Option<(Change, Roles)> {
        let seal = self.seal;
        let known = seal.as_it_lies(number);
        let roles = known.map_or_else(|| seal.entry(number).roles, |k| k.1);
        if roles.has(Roles::GONE) {
            return None;
        }
        let path = plain(seal.path_bytes(number));
        let follows = !roles.has(Roles::ITSELF);
        let now = self.near.check(self.root, path, follows, || {
            plain(seal.path_bytes(number + RUN))
        });
        if let (Some((known, _)), Some(now)) = (known, &now)
            && known == bytes_of(now, &mut self.bytes)
        {
            return None;
        }
        let entry = seal.entry(number);
        (!entry.holds(now)).then_some((Change { number, now }, entry.roles))
    }
}

/// A file's metadata exactly as it is in a seal.
fn bytes_of<'b>(signature: &Signature, out: &'b mut Encoder) -> &'b [u8] {
    out.bytes.clear();
    signature.write(out);
    &out.bytes
}

/// The path of an entry, be it a link's own or not.
pub fn plain(path: &[u8]) -> &[u8] {
    path.strip_prefix(FilePath::LINK.as_bytes()).unwrap_or(path)
}

/// The deepest folder that both paths are below; empty where there is none but the root.
pub fn shared_folder<'a>(path: &'a [u8], other: &[u8]) -> &'a [u8] {
    let same = path.iter().zip(other).take_while(|(a, b)| a == b).count();
    path[..same]
        .iter()
        .rposition(|byte| *byte == b'/')
        .map_or(b"", |slash| &path[..slash])
}

impl Near {
    /// Metadata of `path`, where `later` will be asked for [`RUN`] paths after it.
    fn check<'p>(
        &mut self,
        root: &Below,
        path: &[u8],
        follows: bool,
        later: impl FnOnce() -> &'p [u8],
    ) -> Option<Signature> {
        let below = |folder: &[u8]| {
            path.strip_prefix(folder)
                .and_then(|rest| rest.strip_prefix(b"/"))
        };
        let rest = self.handle.as_ref().and_then(|_| below(&self.folder));
        if rest.is_none_or(|rest| rest.contains(&b'/')) {
            let shared = shared_folder(path, later());
            if rest.is_none() || shared.len() > self.folder.len() {
                self.handle = if shared.is_empty() {
                    None
                } else {
                    root.open_led_to(shared)
                };
                shared.clone_into(&mut self.folder);
            }
        }
        match (&self.handle, below(&self.folder)) {
            (Some(handle), Some(rest)) => Signature::at(handle, rest, follows),
            _ => Signature::at(root.top(), path, follows),
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
