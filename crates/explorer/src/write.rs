//! A copy of all pages as files, which needs no server.

use std::fs;
use std::io;
use std::path::Path;

use crate::links::{About, page};
use crate::site::Site;

/// Pages of which there is one each, and what they load.
const SINGLE: [&str; 12] = [
    "index.html",
    "kinds.html",
    "graph.html",
    "external.html",
    "builds.html",
    "tests.html",
    "options.html",
    "words.html",
    "search.html",
    "look.css",
    "quick.js",
    "names.js",
];

/// What there are several pages of.
const SEVERAL: [About; 8] = [
    About::Target,
    About::Package,
    About::Kind,
    About::Graph,
    About::File,
    About::Build,
    About::Compared,
    About::Topic,
];

/// Why a copy was not written.
#[derive(Debug)]
pub enum NotWritten {
    /// The folder holds something else.
    Occupied,
    /// Something cannot be written: what, and why.
    Problem(std::path::PathBuf, io::Error),
}

impl Site {
    /// Writes all pages into a folder, which is new, empty, or holds an earlier copy. Gives how
    /// many there are.
    ///
    /// # Errors
    /// When the folder holds something else, or cannot be written.
    pub fn write(&self, folder: &Path) -> Result<usize, NotWritten> {
        let problem = |path: &Path| {
            let path = path.to_owned();
            move |e| NotWritten::Problem(path, e)
        };
        fs::create_dir_all(folder).map_err(problem(folder))?;
        let mut old = Vec::new();
        for entry in fs::read_dir(folder).map_err(problem(folder))? {
            old.push(entry.map_err(problem(folder))?);
        }
        let is_copy =
            old.iter().any(|entry| entry.file_name() == "names.js") && old.iter().all(is_ours);
        if !old.is_empty() && !is_copy {
            return Err(NotWritten::Occupied);
        }
        // What is no more must not be found.
        for entry in old {
            fs::remove_file(entry.path()).map_err(problem(&entry.path()))?;
        }
        let mut count = 0;
        let mut put = |name: &str| {
            let Some(answer) = self.answer(name, "") else {
                return Ok(());
            };
            let at = folder.join(name);
            count += 1;
            fs::write(&at, answer.body).map_err(problem(&at))
        };
        // Last what says that it is a copy: one that was cut off is not taken for a whole one by
        // those who read it, but is by us.
        put("names.js")?;
        for about in SEVERAL {
            for name in self.names(about) {
                put(&page(about, &name))?;
            }
        }
        SINGLE
            .iter()
            .filter(|name| **name != "names.js")
            .try_for_each(|name| put(name))?;
        Ok(count)
    }
}

/// Whether a file can be one of a copy.
fn is_ours(entry: &fs::DirEntry) -> bool {
    let name = entry.file_name();
    let Some(name) = name.to_str() else {
        return false;
    };
    let is_page = name.ends_with(".html") || SINGLE.contains(&name);
    is_page && entry.file_type().is_ok_and(|kind| kind.is_file())
}
