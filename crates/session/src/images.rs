//! Looking after the images that are kept for all workspaces.

use std::time::Duration;

use nubrik_images::{ImageCache, ImageResult, UnpackListener};

use crate::session::images_folder;

/// Images that nobody used for so long make way.
pub const IMAGES_UNUSED: Duration = Duration::from_secs(30 * 24 * 3600);

/// Files of images, and their bytes.
pub type ImageAmount = (u64, u64);

/// The images that are kept, if there are any.
fn kept() -> Option<ImageResult<ImageCache>> {
    let folder = images_folder().filter(|folder| folder.is_dir())?;
    Some(ImageCache::open(&folder))
}

/// How much is kept of images.
///
/// # Errors
/// When this machine refuses.
pub fn images_amount() -> ImageResult<ImageAmount> {
    kept().map_or(Ok((0, 0)), |cache| cache?.amount())
}

/// Removes images that nobody used for some time. Gives what went.
///
/// # Errors
/// When this machine refuses.
pub fn prune_images(unused: Duration) -> ImageResult<ImageAmount> {
    kept().map_or(Ok((0, 0)), |cache| cache?.prune(unused))
}

/// Removes what nobody used for long, at most once a day. What cannot be removed takes room, and nothing else.
pub(crate) fn look_after_images() {
    if let Some(Ok(cache)) = kept() {
        let _ = cache.look_after(IMAGES_UNUSED);
    }
}

/// Compares all roots with their digests; gives the folders of those that were damaged, and were removed.
///
/// # Errors
/// When this machine refuses.
pub fn verify_images() -> ImageResult<Vec<std::path::PathBuf>> {
    struct Patient;
    impl UnpackListener for Patient {
        fn is_stopped(&self) -> bool {
            false
        }

        fn read(&self, _: u64) {}
    }
    kept().map_or(Ok(Vec::new()), |cache| cache?.verify(&Patient))
}
