//! Files and folders of a workspace: written and removed without following links, read without
//! waiting, and listed as they are.
//!
//! ```
//! use nubrik_disk::{Below, MadeThing, entries_below, look_at_made};
//!
//! let folder = tempfile::tempdir()?;
//! let below = Below::new(folder.path())?;
//! below.write_whole("made/tide", b"ebb")?;
//! let files = entries_below(&below.folder("made")?)?;
//! assert_eq!(files[0].path, "tide");
//! // What a link leads to is not the tool's to touch: the link itself is replaced by a folder.
//! std::os::unix::fs::symlink("/", folder.path().join("out"))?;
//! below.write_whole("out/tide", b"flood")?;
//! assert!(!folder.path().join("out").is_symlink());
//! assert!(matches!(look_at_made(&below, folder.path(), "out/tide", "out"), MadeThing::There(found) if found.is_file()));
//! # Ok::<(), std::io::Error>(())
//! ```

mod below;
mod copying;
mod ignored;
mod listing;
mod made;
mod own_folders;
mod printed;
mod publish;
mod reading;
mod removing;
mod signature;
mod whole;

pub use below::{Below, regular};
pub use copying::copy_file;
pub use ignored::{IGNORE_FILE, ignored_in};
pub use listing::{TreeFile, TreeFileKind, entries_below, names_in};
pub use made::{MadeThing, leads_inside, look_at_made, tree};
pub use own_folders::{NoOwnFolder, OwnFolder};
pub use printed::{file_for_printed, keep_printed};
pub use publish::publish;
pub use reading::{TEXT_LIMIT, open_file, read_file, read_open, read_text, sized};
pub use signature::Signature;
pub use whole::while_watching;
