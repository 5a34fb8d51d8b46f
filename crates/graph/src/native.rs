//! What the tool does itself, without a command.

use std::sync::Arc;

use nubrik_source::WsPath;

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
        Self::ALL.iter().find(|(n, _)| *n == name).map(|(_, format)| *format)
    }

    /// The format that a file's name says.
    pub fn of_file(name: &str) -> Option<ArchiveFormat> {
        if name.ends_with(".tgz") {
            return Some(ArchiveFormat::TarGz);
        }
        Self::ALL.iter().find(|(n, _)| name.ends_with(&format!(".{n}"))).map(|(_, format)| *format)
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        Self::ALL.iter().find(|(_, f)| *f == self).map_or("", |(name, _)| name)
    }
}

/// The name of the file that an address leads to, without what asks for it.
pub fn url_name(url: &str) -> &str {
    url.split(['?', '#']).next().unwrap_or("").rsplit('/').next().unwrap_or("")
}

/// A file's or made folder's place in a folder or archive that the tool makes.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Placement<F = FileId> {
    /// Where it goes: the file itself, or for a folder what its files go below (empty: the top).
    pub to: Arc<str>,
    /// What goes there.
    pub from: F,
}

/// A file as the machine knows it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct PlainFile {
    /// Where it is.
    pub path: WsPath,
    /// Whether it is a folder with all that is in it.
    pub folder: bool,
}

/// Something that the tool does itself, without a command. Files are numbers of a graph, or what the machine knows them by.
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
        /// How many leading folders of each name are dropped.
        strip: u32,
    },
    /// Fetches what has a known digest.
    Fetch {
        /// Where from: mirrors, tried in order.
        urls: Vec<Arc<str>>,
        /// `sha256:…` or `blake3:…`.
        digest: Arc<str>,
        /// Whether what was fetched is an archive to unpack into the output folder, and how many
        /// leading folders of each name are dropped.
        unpack: Option<u32>,
        /// Whether the file may be executed.
        executable: bool,
    },
}
