//! Why an image cannot be used.

use std::fmt;
use std::io;
use std::path::Path;

/// Why an image cannot be used. Its text is for people; lines after the first say more.
#[derive(Debug)]
pub enum ImageProblem {
    /// The image is not as it has to be.
    Image(String),
    /// This machine refused something: what could not be done, and why.
    Machine(String),
    /// Everything is being stopped.
    Stopped,
}

impl fmt::Display for ImageProblem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ImageProblem::Image(what) | ImageProblem::Machine(what) => f.write_str(what),
            ImageProblem::Stopped => f.write_str("it was stopped"),
        }
    }
}

impl std::error::Error for ImageProblem {}

/// What images give, or why they cannot.
pub type ImageResult<T> = Result<T, ImageProblem>;

/// That the image is not as it has to be.
pub(crate) fn bad<T>(what: impl Into<String>) -> ImageResult<T> {
    Err(ImageProblem::Image(what.into()))
}

/// That this machine refused something with a file.
pub(crate) fn refused(path: &Path) -> impl Fn(io::Error) -> ImageProblem {
    let path = path.display().to_string();
    move |why| ImageProblem::Machine(format!("{path}: {why}"))
}
