//! Small contents that are put together into one object.

use nubrik_bytes::Digest;

use crate::bundle::PACK;
use crate::segment::ContentSpot;

/// A pack that grows: frames, one behind the other.
#[derive(Default)]
pub(crate) struct GrowingPack {
    bytes: Vec<u8>,
    inside: Vec<(Digest, ContentSpot)>,
}

/// A pack that is whole.
pub(crate) struct ClosedPack {
    /// What it is called by.
    pub digest: Digest,
    pub bytes: Vec<u8>,
    /// Where each of its contents is.
    pub contents: Vec<(Digest, ContentSpot)>,
}

impl GrowingPack {
    /// Adds a content of so many bytes as a frame. Gives the pack if it is large enough now.
    pub fn add(&mut self, digest: Digest, frame: &[u8], raw: u64) -> Option<ClosedPack> {
        let (at, stored) = (self.bytes.len() as u64, frame.len() as u64);
        self.inside.push((
            digest,
            ContentSpot {
                pack: None,
                at,
                stored,
                raw,
            },
        ));
        self.bytes.extend(frame);
        if self.bytes.len() >= PACK {
            self.close()
        } else {
            None
        }
    }

    /// What was added since the last one was closed, if anything was.
    pub fn close(&mut self) -> Option<ClosedPack> {
        if self.inside.is_empty() {
            return None;
        }
        let bytes = std::mem::take(&mut self.bytes);
        let digest = Digest::of(&bytes);
        let inside = self.inside.drain(..);
        let contents = inside.map(|(content, spot)| {
            (
                content,
                ContentSpot {
                    pack: Some(digest),
                    ..spot
                },
            )
        });
        Some(ClosedPack {
            digest,
            bytes,
            contents: contents.collect(),
        })
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn what_is_in_a_pack_is_found_in_it() {
        let mut pack = GrowingPack::default();
        assert!(pack.close().is_none());
        let frames = [b"low".to_vec(), vec![7; PACK], b"high".to_vec()];
        let of = |number: usize| Digest::of(&frames[number]);
        assert!(pack.add(of(0), &frames[0], 30).is_none());
        let full = pack.add(of(1), &frames[1], 9).unwrap();
        assert!(pack.add(of(2), &frames[2], 40).is_none());
        let rest = pack.close().unwrap();
        assert!(pack.close().is_none());
        assert_eq!((full.contents.len(), rest.contents.len()), (2, 1));
        for (closed, number) in [(&full, 0), (&full, 1), (&rest, 2)] {
            let (_, spot) = closed
                .contents
                .iter()
                .find(|(digest, _)| *digest == of(number))
                .unwrap();
            let (from, to) = (spot.at as usize, (spot.at + spot.stored) as usize);
            assert_eq!(
                (&closed.bytes[from..to], spot.pack),
                (&*frames[number], Some(closed.digest))
            );
        }
        assert_eq!(full.digest, Digest::of(&full.bytes));
    }
}
