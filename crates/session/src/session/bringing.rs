//! Kits in archives are fetched before anything is evaluated that may use them.

use std::fs;
use std::sync::Arc;

use nubrik_engine::{Outreach, OutsideWork, Work};
use nubrik_graph::{Native, PlainFile};
use nubrik_lang::{KITS_FOLDER, KitPlace};
use nubrik_source::WsPath;

use super::Workshop;
use nubrik_workspace::{KitArchive, note_of, noted_path, unpacked};

/// What came of a kit that was not there.
#[derive(Debug)]
pub enum KitNews {
    /// It is there now, from one of these.
    Fetched(Vec<Arc<str>>),
    /// It cannot be had, and why: what each place said.
    Failed(String),
}

impl Workshop<'_> {
    /// Fetches and unpacks kits in archives that are not there as they were unpacked: all that may
    /// be reached. Says for each, by its name, what came of it.
    pub fn bring_kits(&mut self) -> Vec<(String, KitNews)> {
        let root = self.machine().below();
        let is_here =
            |name: &str, kit: &KitArchive| matches!(kit.place(name, root), KitPlace::Here(..));
        let kits = &self.workspace.settings.kits;
        let missing: Vec<(String, KitArchive)> = kits
            .iter()
            .filter(|(_, kit)| self.reach() == Outreach::Everything || !kit.is_far())
            .filter(|(name, kit)| !is_here(name, kit))
            .map(|(name, kit)| (name.clone(), kit.clone()))
            .collect();
        if !missing.is_empty() {
            self.forget_kits();
        }
        let news = missing.into_iter().map(|(name, kit)| {
            let came = match self.bring_kit(&name, &kit) {
                Ok(()) => KitNews::Fetched(kit.urls.clone()),
                Err(problem) => KitNews::Failed(problem),
            };
            (name, came)
        });
        news.collect()
    }

    /// Removes unpacked kits that `nubrik.toml` does not name any more, or with another digest.
    fn forget_kits(&self) {
        let root = self.machine().below();
        let kits = &self.workspace.settings.kits;
        let named: Vec<String> = kits.iter().map(|(name, kit)| kit.folder(name)).collect();
        let entries = fs::read_dir(self.workspace.root.join(KITS_FOLDER))
            .into_iter()
            .flatten()
            .flatten();
        for entry in entries {
            let Ok(found) = entry.file_name().into_string() else {
                continue;
            };
            if !named
                .iter()
                .any(|name| found == *name || noted_path(name).ends_with(&format!("/{found}")))
            {
                // What cannot be removed takes room, and nothing else.
                let _ = root.remove(&format!("{KITS_FOLDER}/{found}"));
            }
        }
    }

    fn bring_kit(&self, name: &str, kit: &KitArchive) -> Result<(), String> {
        let folder = kit.folder(name);
        let root = self.machine().below();
        let cannot = |e: std::io::Error| format!("cannot unpack it: {e}");
        root.made_folder(KITS_FOLDER).map_err(cannot)?;
        let at = |ending: &str| WsPath::from_normal(&format!("{KITS_FOLDER}/{folder}{ending}"));
        let urls = match kit.own_file() {
            None => kit.urls.clone(),
            Some(path) => {
                vec![format!("file://{}", self.workspace.root.join(path).display()).into()]
            }
        };
        let native: Native<PlainFile> = Native::Fetch {
            urls,
            digest: kit.digest.clone(),
            unpack: Some(kit.unpacking),
            executable: false,
        };
        let (new, whole) = (at(".new"), at(""));
        let _ = root.remove(new.as_str());
        self.machine()
            .work(&Work::Native(native), &new)
            .map_err(|problem| problem.to_string())?;
        let _ = root.remove(whole.as_str());
        root.rename(new.as_str(), whole.as_str()).map_err(cannot)?;
        let (digest, _) = unpacked(root, &folder).ok_or("its files cannot be read")?;
        root.write_whole(
            &noted_path(&folder),
            note_of(&digest).map_err(|e| e.to_string())?.as_bytes(),
        )
        .map_err(cannot)
    }
}
