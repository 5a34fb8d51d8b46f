//! What the tool does itself, without a command.

use std::sync::Arc;

use nubrik_source::{PathWithin, WsPath};

use crate::FileId;

/// Format of an archive.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ArchiveFormat {
    /// Plain tar.
    Tar,
    /// Tar, compressed by gzip.
    TarGz,
    /// Tar, compressed by Zstandard.
    TarZst,
    /// Zip.
    Zip,
}

impl ArchiveFormat {
    /// All formats by their names.
    pub const ALL: [(&'static str, ArchiveFormat); 4] = [
        ("tar.gz", ArchiveFormat::TarGz),
        ("tar.zst", ArchiveFormat::TarZst),
        ("zip", ArchiveFormat::Zip),
        ("tar", ArchiveFormat::Tar),
    ];

    /// The format of this name.
    pub fn named(name: &str) -> Option<ArchiveFormat> {
        Self::ALL
            .iter()
            .find(|(n, _)| *n == name)
            .map(|(_, format)| *format)
    }

    /// Endings of archives that do not say the format by its name.
    pub const OTHER_ENDINGS: [(&'static str, ArchiveFormat); 4] = [
        ("tgz", ArchiveFormat::TarGz),
        ("crate", ArchiveFormat::TarGz),
        ("jar", ArchiveFormat::Zip),
        ("whl", ArchiveFormat::Zip),
    ];

    /// The format that a file's name says, and the name without the ending that says it.
    pub fn and_stem(name: &str) -> Option<(ArchiveFormat, &str)> {
        let mut endings = Self::ALL.iter().chain(&Self::OTHER_ENDINGS);
        endings.find_map(|(ending, format)| {
            Some((*format, name.strip_suffix(ending)?.strip_suffix('.')?))
        })
    }

    /// The format that a file's name says.
    pub fn of_file(name: &str) -> Option<ArchiveFormat> {
        Self::and_stem(name).map(|(format, _)| format)
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        Self::ALL
            .iter()
            .find(|(_, f)| *f == self)
            .map_or("", |(name, _)| name)
    }
}

/// The name of the file that an address leads to, without what asks for it.
pub fn url_name(url: &str) -> &str {
    url.split(['?', '#'])
        .next()
        .unwrap_or("")
        .rsplit('/')
        .next()
        .unwrap_or("")
}

/// How an archive is unpacked.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Unpacking {
    /// Its format.
    pub format: ArchiveFormat,
    /// How many leading folders of each name are dropped.
    pub strip: u32,
}

/// A file's or made folder's place in a folder or archive that the tool makes.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Placement<F = FileId> {
    /// Where it goes: the file itself, or for a folder what its files go below (empty: the top).
    pub to: PathWithin,
    /// What goes there.
    pub from: F,
}

/// Something to look for in the root of an image.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum ImageSearch {
    /// Programs.
    Tools {
        /// Their names, or absolute paths, the best first.
        names: Vec<Arc<str>>,
        /// The word that makes each print its version; `None` where no one asks.
        version: Option<Arc<str>>,
    },
    /// Installed libraries.
    Libraries {
        /// Names of `.pc` files without their ending, the best first.
        names: Vec<Arc<str>>,
        /// Whether the flags for static linking are wanted.
        for_static: bool,
    },
}

/// Where an image is, and which one of several.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ImageSource<F = FileId> {
    /// The files that it is in.
    pub files: ImageFiles<F>,
    /// What its layout calls it; `None` where that holds only one.
    pub name: Option<Arc<str>>,
    /// The system and the processor that it must be for: `linux`, `x86_64`.
    pub platform: (Arc<str>, Arc<str>),
}

/// An image to be made.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct NewImage<F = FileId> {
    /// The image whose layers it begins with.
    pub base: Option<ImageSource<F>>,
    /// What it has besides.
    pub layer: NewLayer<F>,
    /// Variables, sorted by name.
    pub env: Vec<(Arc<str>, Arc<str>)>,
    /// What is started in it, with its words; as the base has it where there is nothing.
    pub start: Vec<Arc<str>>,
    /// The folder in which that is started.
    pub folder: Option<Arc<str>>,
    /// The system and the processor that it is for.
    pub platform: (Arc<str>, Arc<str>),
}

/// The layer that a new image adds to those of its base.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum NewLayer<F = FileId> {
    /// What goes where in it, sorted.
    Files(Vec<Placement<F>>),
    /// A tar of all of it.
    Tar(F),
}

/// The files that an image is in.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum ImageFiles<F = FileId> {
    /// A layout: a folder, or an archive of one.
    Layout(F),
    /// Its manifest, and its blobs, each called by the hexadecimal digits of its digest.
    Blobs {
        /// The manifest.
        manifest: F,
        /// The configuration and the layers.
        blobs: Vec<F>,
    },
}

impl<F> ImageSource<F> {
    /// Its files.
    pub fn each_file(&self) -> impl Iterator<Item = &F> {
        let (first, rest) = match &self.files {
            ImageFiles::Layout(layout) => (layout, [].as_slice()),
            ImageFiles::Blobs { manifest, blobs } => (manifest, blobs.as_slice()),
        };
        std::iter::once(first).chain(rest)
    }

    /// Calls on each of its files.
    pub fn each_file_mut(&mut self, visit: &mut impl FnMut(&mut F)) {
        let ImageSource {
            files,
            name: _,
            platform: _,
        } = self;
        match files {
            ImageFiles::Layout(layout) => visit(layout),
            ImageFiles::Blobs { manifest, blobs } => {
                std::iter::once(manifest).chain(blobs).for_each(visit)
            }
        }
    }

    /// The same with files that are known by something else.
    pub fn with_files<G>(&self, name: impl Fn(&F) -> G) -> ImageSource<G> {
        let ImageSource {
            files,
            name: called,
            platform,
        } = self;
        let files = match files {
            ImageFiles::Layout(layout) => ImageFiles::Layout(name(layout)),
            ImageFiles::Blobs { manifest, blobs } => ImageFiles::Blobs {
                manifest: name(manifest),
                blobs: blobs.iter().map(name).collect(),
            },
        };
        ImageSource {
            files,
            name: called.clone(),
            platform: platform.clone(),
        }
    }
}

/// A file as the machine knows it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct PlainFile {
    /// Where it is.
    pub path: WsPath,
    /// Whether it is a folder with all that is in it.
    pub folder: bool,
}

/// Something that the tool does itself, without a command. Files are numbers of a graph, or what
/// the machine knows them by.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Native<F = FileId> {
    /// Writes a text to the output.
    Write {
        /// The text.
        text: Arc<str>,
        /// Whether the file may be executed.
        executable: bool,
    },
    /// Puts files together in the output folder.
    Stage {
        /// What goes where, sorted.
        files: Vec<Placement<F>>,
    },
    /// Packs files into the output, the same bytes on every machine.
    Pack {
        /// The archive's format.
        format: ArchiveFormat,
        /// What goes where, sorted.
        files: Vec<Placement<F>>,
    },
    /// Unpacks an archive into the output folder.
    Unpack {
        /// The archive.
        archive: F,
        /// How.
        how: Unpacking,
    },
    /// Takes a file or folder out of a made folder.
    Part {
        /// The folder.
        folder: F,
        /// What is taken.
        path: PathWithin,
        /// Whether that is a folder, too.
        is_folder: bool,
    },
    /// Looks in a file for what regular expressions find, and writes that down as JSON: an object
    /// with a list of texts for each of them.
    Extract {
        /// The file.
        file: F,
        /// What is looked for: names, and the regular expressions.
        patterns: Vec<(Arc<str>, Arc<str>)>,
    },
    /// Fetches what has a known digest.
    Fetch {
        /// Where from: mirrors, tried in order.
        urls: Vec<Arc<str>>,
        /// `sha256:…`, `sha512:…`, `blake3:…` or `h1:…`.
        digest: Arc<str>,
        /// Whether what was fetched is an archive to unpack into the output folder, and how.
        unpack: Option<Unpacking>,
        /// Whether the file may be executed.
        executable: bool,
    },
    /// Looks for something in the root of the step's image, and writes down what is there, as JSON.
    Find(ImageSearch),
    /// Makes an image: an archive of a layout.
    MakeImage(Box<NewImage<F>>),
    /// Says what an image is, as steps in it see it. Its layers are unpacked once on each machine
    /// that needs them.
    Image(ImageSource<F>),
}

/// Whether a text is a digest of a kind that is known, as it is written.
pub fn is_digest(text: &str) -> bool {
    let Some((method, digest)) = text.split_once(':') else {
        return false;
    };
    let hex = |len| {
        digest.len() == len
            && digest
                .bytes()
                .all(|b| matches!(b, b'0'..=b'9' | b'a'..=b'f'))
    };
    let base64 = |len, padding| {
        digest.len() == len
            && digest.strip_suffix(padding).is_some_and(|digits| {
                digits
                    .bytes()
                    .all(|b| b.is_ascii_alphanumeric() || matches!(b, b'+' | b'/'))
            })
    };
    match method {
        "sha256" | "blake3" => hex(64),
        "sha512" => hex(128) || base64(88, "=="),
        "h1" => base64(44, "="),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::is_digest;

    #[test]
    fn digests_have_the_length_and_digits_of_their_kind() {
        for good in [
            format!("sha256:{}", "0a".repeat(32)),
            format!("sha512:{}", "0a".repeat(64)),
            format!("sha512:{}==", "a+".repeat(43)),
            format!("h1:{}=", "Z".repeat(43)),
        ] {
            assert!(is_digest(&good), "{good}");
        }
        for bad in [
            "",
            "sha256:",
            "sha256",
            &format!("sha256:{}", "0A".repeat(32)),
            "md5:00",
            "h1:=",
        ] {
            assert!(!is_digest(bad), "{bad}");
        }
    }
}
