//! The seal on a finished request: metadata of everything that it looked at. While none of it
//! changes, the same request has nothing to do, and neither evaluates nor plans.
//!
//! A seal is only written when every step was in place at the end and no file was so young that it
//! could change again without a trace.

use std::os::fd::OwnedFd;
use std::sync::Arc;

use nubrik_engine::{Outside, Signature};

use crate::machine::Machine;
use crate::probes;
use nubrik_lang::ProbeRequest;
use nubrik_store::{Decoder, Digest, Encoder, Truncated};

const MAGIC: &str = "nubrik seal 2";

/// What a sealed request came to.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Sealed {
    /// How many steps it needs.
    pub steps: usize,
    /// Where its results are, from the workspace's root.
    pub results: Vec<String>,
}

/// A seal as it is written.
pub(crate) struct Seal {
    pub sealed: Sealed,
    /// Variables of the environment with the digests of their values.
    pub env: Vec<(String, Option<Digest>)>,
    /// Probes with the digests of their answers.
    pub probes: Vec<(ProbeRequest, Digest)>,
    /// Paths with their metadata; all zero where nothing was. Sorted.
    pub files: Vec<(Arc<str>, Option<Signature>)>,
}

impl Seal {
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Encoder::new();
        out.text(MAGIC);
        out.u64(self.sealed.steps as u64);
        out.list(&self.sealed.results, |out, path| out.text(path));
        out.list(&self.env, |out, (name, digest)| {
            out.text(name);
            out.bool(digest.is_some());
            out.digest(&digest.unwrap_or(Digest([0; 32])));
        });
        out.list(&self.probes, |out, (request, digest)| {
            probes::encode(request, out);
            out.digest(digest);
        });
        out.list(&self.files, |out, (path, signature)| {
            out.text(path);
            let s = signature.unwrap_or_default();
            for number in [s.size, s.changed as u64, s.touched as u64, s.inode] {
                out.u64(number);
            }
            out.u32(s.mode);
        });
        let check = Digest::of(&out.bytes);
        out.digest(&check);
        out.bytes
    }
}

/// What stands for a variable's value: values may be nobody's business.
pub(crate) fn env_digest(value: Option<&str>) -> Option<Digest> {
    value.map(|value| Digest::of(value.as_bytes()))
}

struct Entry<'a> {
    path: &'a str,
    signature: Option<Signature>,
}

struct Decoded<'a> {
    sealed: Sealed,
    env: Vec<(String, Option<Digest>)>,
    probes: Vec<(ProbeRequest, Digest)>,
    files: Vec<Entry<'a>>,
}

fn decode(bytes: &[u8]) -> Result<Decoded<'_>, Truncated> {
    let (body, check) = bytes.split_at_checked(bytes.len().saturating_sub(32)).ok_or(Truncated)?;
    if Digest::of(body).0 != check {
        return Err(Truncated);
    }
    let mut from = Decoder::new(body);
    if from.text()? != MAGIC {
        return Err(Truncated);
    }
    let steps = from.u64()? as usize;
    let results = from.list(|from| Ok(from.text()?.to_owned()))?;
    let env = from.list(|from| {
        let name = from.text()?.to_owned();
        let is_set = from.bool()?;
        let digest = from.digest()?;
        Ok((name, is_set.then_some(digest)))
    })?;
    let probes = from.list(|from| Ok((probes::decode(from)?, from.digest()?)))?;
    let files = from.list(|from| {
        let path = from.text()?;
        let (size, changed) = (from.u64()?, from.u64()? as i64);
        let (touched, inode, mode) = (from.u64()? as i64, from.u64()?, from.u32()?);
        let signature = (mode != 0).then_some(Signature { size, changed, touched, inode, mode });
        Ok(Entry { path, signature })
    })?;
    Ok(Decoded { sealed: Sealed { steps, results }, env, probes, files })
}

/// What the sealed request came to, if the seal holds: nothing that it looked at has changed.
pub(crate) fn check(bytes: &[u8], outside: &Machine, threads: usize) -> Option<Sealed> {
    let Decoded { sealed, env, probes, files: entries } = decode(bytes).ok()?;
    if env.iter().any(|(name, digest)| env_digest(std::env::var(name).ok().as_deref()) != *digest) {
        return None;
    }
    let part = entries.len().div_ceil(threads.max(1)).max(1);
    let broken = std::sync::atomic::AtomicBool::new(false);
    std::thread::scope(|scope| {
        if !probes.is_empty() {
            scope.spawn(|| {
                let again = |(request, digest): &(ProbeRequest, Digest)| {
                    probes::digest_of(&probes::answer(outside, request)) != *digest
                };
                if probes.iter().any(again) {
                    broken.store(true, std::sync::atomic::Ordering::Relaxed);
                }
            });
        }
        for entries in entries.chunks(part) {
            let broken = &broken;
            scope.spawn(move || {
                let mut near = Near::default();
                for (i, entry) in entries.iter().enumerate() {
                    if broken.load(std::sync::atomic::Ordering::Relaxed) {
                        return;
                    }
                    let found = near.check(outside, entry.path, entries.get(i + 1).map(|e| e.path));
                    let holds = entry.signature.map_or(found.is_none(), |known| known.still_holds(found));
                    if !holds {
                        broken.store(true, std::sync::atomic::Ordering::Relaxed);
                    }
                }
            });
        }
    });
    (!broken.into_inner()).then_some(sealed)
}

/// A folder kept open for a run of paths in and below it: looking up short names is quicker.
#[derive(Default)]
struct Near {
    folder: String,
    handle: Option<OwnedFd>,
}

impl Near {
    /// Metadata of `path`, where `next` will be asked for after it.
    fn check(&mut self, machine: &Machine, path: &str, next: Option<&str>) -> Option<Signature> {
        let below = |folder: &str| path.strip_prefix(folder).and_then(|rest| rest.strip_prefix('/'));
        if self.handle.is_none() || below(&self.folder).is_none() {
            self.handle = None;
            let shared = next.map_or("", |next| shared_folder(path, next));
            if !shared.is_empty() {
                self.handle = machine.open_folder(shared);
                self.folder = shared.to_owned();
            }
        }
        match (&self.handle, below(&self.folder)) {
            (Some(handle), Some(rest)) => Machine::check_at(handle, rest),
            _ => machine.check(path),
        }
    }
}

/// The deepest folder that both paths are below; empty where there is none but the root.
fn shared_folder<'a>(path: &'a str, other: &str) -> &'a str {
    let same = path.bytes().zip(other.bytes()).take_while(|(a, b)| a == b).count();
    path[..same.min(path.len())].rfind('/').map_or("", |slash| &path[..slash])
}

#[cfg(test)]
mod tests {
    use super::shared_folder;

    #[test]
    fn finds_the_shared_folder() {
        assert_eq!(shared_folder("a/b/c", "a/b/d"), "a/b");
        assert_eq!(shared_folder("a/bc", "a/bd/x"), "a");
        assert_eq!(shared_folder("a", "b"), "");
        assert_eq!(shared_folder("/usr/a", "/usr/b"), "/usr");
    }
}
