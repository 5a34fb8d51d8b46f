//! Results that nothing makes any more.

use std::fs;
use std::sync::Arc;

use nubrik_disk::Below;
use nubrik_engine::{ChangeList, OutsideFiles, Published};
use nubrik_lang::{AddressPattern, Evaluation};
use nubrik_source::WsPath;
use rustc_hash::FxHashSet;

use super::{Session, Workshop};

/// The folder with a file for each folder of results in which there may be some that no one knows
/// of.
const UNKNOWN_RESULTS: &str = "unknown-results";

impl Session {
    /// Takes note that what is remembered of results was lost, for each folder of results: what
    /// lies there may be no one's.
    pub(super) fn note_unknown_results(&self, own: &Below) {
        for entry in fs::read_dir(self.workspace.root.join("out"))
            .into_iter()
            .flatten()
            .flatten()
        {
            if let (true, Some(name)) = (entry.path().is_dir(), entry.file_name().to_str()) {
                let _ = own.made_folder(UNKNOWN_RESULTS);
                let _ = own.write_whole(&format!("{UNKNOWN_RESULTS}/{name}"), b"");
            }
        }
    }

    /// The file whose presence says that nothing is remembered of some of the results.
    fn unknown_results(&self) -> String {
        format!(
            "{UNKNOWN_RESULTS}/{}",
            self.profile.as_deref().unwrap_or("default")
        )
    }
}

impl Workshop<'_> {
    /// Removes published results that a requested target no longer has, and those of targets that
    /// are gone.
    pub(super) fn remove_stale_results(
        &self,
        patterns: &[AddressPattern],
        evaluation: &Evaluation,
    ) -> ChangeList<Published> {
        let out = self.results_folder();
        let graph = &evaluation.graph;
        let results = graph.targets.iter().flat_map(|t| &t.results);
        let now: std::collections::HashSet<String> = results
            .map(|r| format!("{out}/{}", r.publish.as_str()))
            .collect();
        let asked = evaluation
            .targets
            .iter()
            .map(|t| WsPath::from_normal(&graph.target(*t).address));
        let homes = homes(patterns, || asked.collect());
        self.sweep(&homes, |path| now.contains(path))
    }

    /// Removes what lies in some folders (below the folder of results) and nothing makes any more.
    pub(super) fn sweep(
        &self,
        homes: &[WsPath],
        is_made: impl FnMut(&str) -> bool,
    ) -> ChangeList<Published> {
        let gone = self.remove_results(&self.stale_results(homes, is_made));
        // Whatever was there is known now.
        if homes.iter().any(WsPath::is_root)
            && self.has_unknown_results()
            && let Ok(own) = self.own()
        {
            let _ = own.remove(&self.unknown_results());
        }
        gone
    }

    fn has_unknown_results(&self) -> bool {
        self.state();
        self.own()
            .is_ok_and(|own| own.look_at(&self.unknown_results()).is_ok())
    }

    /// Published results in some folders (below the folder of results) that nothing makes any more.
    fn stale_results(
        &self,
        homes: &[WsPath],
        mut is_made: impl FnMut(&str) -> bool,
    ) -> Vec<Arc<str>> {
        let out = self.results_folder();
        let below_out = |home: &WsPath| match home.is_root() {
            true => out.to_string(),
            false => format!("{out}/{home}"),
        };
        let has_all = homes.iter().any(WsPath::is_root);
        let homes: FxHashSet<String> = homes.iter().map(below_out).collect();
        let belongs = |path: &str| {
            if has_all && path.len() > out.as_str().len() && path.starts_with(out.as_str()) {
                return path.as_bytes()[out.as_str().len()] == b'/';
            }
            let ends = path.match_indices('/').map(|(at, _)| &path[..at]);
            // A single result may be beside its folder, under its name.
            ends.chain([path]).any(|folder| homes.contains(folder))
        };
        let mut stale = self
            .state()
            .published
            .names_where(|path| belongs(path) && !is_made(path));
        if self.has_unknown_results() {
            // A folder is a result with all that is in it, of which only the files are known where
            // its name was forgotten.
            let mut is_in_one = |path: &str| {
                let ends = path.match_indices('/').map(|(at, _)| &path[..at]);
                ends.chain([path]).any(&mut is_made)
            };
            let files = self.files_of_results().into_iter();
            stale.extend(files.filter(|path| belongs(path) && !is_in_one(path)));
        }
        stale.sort();
        stale.dedup();
        stale
    }

    /// All files in the folder of results.
    fn files_of_results(&self) -> Vec<Arc<str>> {
        let out = self.results_folder();
        let tree = self.machine.tree(&out).unwrap_or_default();
        tree.into_iter()
            .map(|file| format!("{out}/{}", file.path).into())
            .collect()
    }

    /// Removes published results, and folders that are empty then.
    fn remove_results(&self, stale: &[Arc<str>]) -> ChangeList<Published> {
        let out = self.results_folder();
        for path in stale {
            let path = WsPath::from_normal_text(path.clone());
            self.machine.discard(&path);
            // Folders that are empty now go, too.
            let mut folder = path.parent();
            while let Some(at) = folder.filter(|f| f.below(&out).is_some()) {
                if !self.machine.below().remove_empty_folder(at.as_str()) {
                    break;
                }
                folder = at.parent();
            }
        }
        stale.iter().map(|path| (path.clone(), None)).collect()
    }
}

/// Folders, below the folder of results, in which only what a request made belongs: those of the
/// targets, entries and folders that it means. `asked` gives the addresses of the targets that it
/// asked for.
pub(super) fn homes(
    patterns: &[AddressPattern],
    asked: impl FnOnce() -> Vec<WsPath>,
) -> Vec<WsPath> {
    // All that there is belongs to who asks for everything.
    if patterns
        .iter()
        .any(|pattern| pattern.is_folder && !pattern.is_glob() && pattern.path.is_root())
    {
        return vec![WsPath::root()];
    }
    let (asked, mut homes) = (asked(), Vec::new());
    for pattern in patterns {
        if pattern.is_glob() {
            // Of a target of which it means some entries only, the others stay.
            homes.extend(
                asked
                    .iter()
                    .filter(|address| pattern.matches(address.as_str()))
                    .cloned(),
            );
            continue;
        }
        let path = &pattern.path;
        // `clock` means the target `clock/clock` where there is one, and `clock/a` its entry `a` or
        // the target `a` of it.
        let own = path.child(path.name());
        match !pattern.is_folder && asked.contains(&own) {
            true => homes.push(own),
            false => homes.push(path.clone()),
        }
        if pattern.is_folder {
            // Where no package is in the folder, what the package around it declares was asked for.
            let is_around = |address: &&WsPath| {
                !address.is_in(path) && address.parent().is_some_and(|package| path.is_in(&package))
            };
            homes.extend(asked.iter().filter(is_around).cloned());
        }
    }
    homes
}
