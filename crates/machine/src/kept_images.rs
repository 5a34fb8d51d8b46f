//! Looking after the images that are kept for all workspaces.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use nubrik_disk::{NoOwnFolder, OwnFolder};
use nubrik_images::{ImageAmount, ImageCache, ImageResult, RootStatement, UnpackListener};

/// Images that nobody used for so long make way.
pub const IMAGES_UNUSED: Duration = Duration::from_secs(30 * 24 * 3600);

/// The folder in which images of all workspaces are kept: in `nubrik/images` of the cache folder.
///
/// # Errors
/// When no variable names one.
pub fn images_folder() -> Result<PathBuf, NoOwnFolder> {
    Ok(OwnFolder::Cache.find()?.join("images"))
}

/// The images that are kept, if there are any.
fn kept() -> Option<ImageResult<ImageCache>> {
    let folder = images_folder().ok().filter(|folder| folder.is_dir())?;
    Some(ImageCache::open(&folder))
}

/// How much is kept of images.
///
/// # Errors
/// When this machine refuses.
pub fn images_amount() -> ImageResult<ImageAmount> {
    kept().map_or(Ok(ImageAmount::default()), |cache| cache?.amount())
}

/// Removes images that nobody used for some time. Gives what went.
///
/// # Errors
/// When this machine refuses.
pub fn prune_images(unused: Duration) -> ImageResult<ImageAmount> {
    kept().map_or(Ok(ImageAmount::default()), |cache| cache?.prune(unused))
}

/// Removes what nobody used for long, at most once a day. What cannot be removed takes room, and
/// nothing else.
pub fn look_after_images() {
    if let Some(Ok(cache)) = kept() {
        let _ = cache.look_after(IMAGES_UNUSED);
    }
}

/// What is known of an image that steps run in.
pub struct KnownImage {
    /// How much it is.
    pub amount: ImageAmount,
    /// Where programs are in it that steps start, by their names, as far as it is unpacked on this
    /// machine.
    pub programs: Option<Vec<(Arc<str>, Option<String>)>>,
}

/// What is known of the image of which a statement is at a path, and of some programs in it;
/// nothing before a build made the statement.
pub fn known_image(statement: &Path, programs: &[Arc<str>]) -> Option<KnownImage> {
    let text = nubrik_disk::read_text(statement).ok()?;
    let said = RootStatement::parse(text.as_bytes()).ok()?;
    let root = kept()
        .and_then(Result::ok)
        .and_then(|cache| cache.held(&said, &Patient).ok().flatten());
    let search = said.search_path();
    let programs = root.map(|root| {
        programs
            .iter()
            .map(|name| (name.clone(), root.program(name, &search)))
            .collect::<Vec<_>>()
    });
    Some(KnownImage {
        amount: said.amount(),
        programs,
    })
}

/// Waits as long as it takes.
struct Patient;

impl UnpackListener for Patient {
    fn is_stopped(&self) -> bool {
        false
    }
}

/// Compares all roots with their digests; gives the folders of those that were damaged, and were
/// removed.
///
/// # Errors
/// When this machine refuses.
pub fn verify_images() -> ImageResult<Vec<PathBuf>> {
    kept().map_or(Ok(Vec::new()), |cache| cache?.verify(&Patient))
}
