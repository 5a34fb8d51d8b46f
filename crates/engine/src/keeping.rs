//! What commands made and read: looked at, compared with what it was when they began, and kept.

use nubrik_bytes::Digest;
use nubrik_disk::{MadeThing, Signature, TreeFileKind};
use nubrik_graph::{Step, StepId};
use nubrik_source::{FilePath, WsPath};
use nubrik_store::{
    FoundInput, OutputRecord, Provenance, RESULTS_PER_KEY, Record, RecordEntry, TreeEntry, TreeKind,
};

use crate::build::Build;
use crate::event::{Event, Failure, IS_FILE, IS_FOLDER, Notice};
use crate::examine::{Examined, OTHER_ADDRESS, paths_of};
use crate::files::Began;
use crate::found::{ListingContext, parse_listing};
use crate::outside::CONSTANT_ROOT;
use crate::outside::FoundTool;
use crate::perform::Ran;
use crate::state::StepMemory;

impl Build<'_> {
    /// Takes note of what the commands made and read, and keeps it in the cache.
    pub(crate) fn keep(
        &self,
        id: StepId,
        now: &Examined,
        ran: &Ran<'_>,
    ) -> Result<StepMemory, Failure> {
        let Ran {
            reason,
            began,
            times_full,
            micros,
            printed,
            as_always,
            seen,
            all_seen,
        } = *ran;
        let step = self.graph.step(id);
        // Commands that do not look whether they could write end well with half of their output.
        // There may be room again.
        if self.outside.times_full() != times_full {
            self.outside.discard(&step.folder);
            return Err(Failure::NoRoom);
        }
        let mut found = self.found_inputs(id, began)?;
        if step.observed {
            // Of the workspace that counts which was seen; what is listed of the machine counts
            // besides.
            found.extend(self.observed_inputs(id, seen, began)?);
            found.sort_by(|a, b| a.path.cmp(&b.path));
            found.dedup_by(|a, b| a.path == b.path);
        }
        self.add_unlisted(id, &mut found, &now.tools, began)?;
        self.inputs_as_examined(id, now, began)?;
        let (outputs, signatures) = self.take_outputs(id)?;
        let found_paths = paths_of(&found);
        let passed_over = self.passed_over(id, &found_paths, &now.tools);
        let basis = self.basis_of(id, now, all_seen, &found, began);
        let entry = RecordEntry {
            basis,
            origin: Provenance::Here,
            found,
            candidate_names: now.names,
            passed_over,
            outputs,
            printed: printed.to_vec(),
            micros,
        };
        let mut memory = self.memory_of(now, &entry, signatures, reason);
        if !as_always {
            memory.first_key = Digest::of(OTHER_ADDRESS);
        }
        if as_always && !step.services.iter().any(|s| s.is_elsewhere()) {
            self.keep_entry(step, &now.first_key, entry);
        }
        Ok(memory)
    }

    /// Refuses a result of which an input or a tool is another one than when the step was examined. It
    /// may be the same again.
    fn inputs_as_examined(&self, id: StepId, now: &Examined, began: Began) -> Result<(), Failure> {
        for (path, digest) in &now.parts.inputs {
            self.must_be_as_examined(id, path, digest)?;
            if self.table.has_moved_since(path, began) {
                return Err(Failure::InputMoved { path: path.told() });
            }
        }
        let is_other = |tool: &&FoundTool| !self.outside.is_as_found(tool);
        if let Some(tool) = now.tools.iter().find(is_other) {
            let path = tool.path.to_string_lossy().into();
            return Err(Failure::InputMoved { path });
        }
        self.made_inputs_in_place(id)
            .map_err(|path| Failure::InputMoved { path })
    }

    /// Keeps a result in the cache, first among those that have the same first part of a key.
    fn keep_entry(&self, step: &Step, first_key: &Digest, entry: RecordEntry) {
        let Some(store) = self.store else { return };
        let mut record = match step.narrows() {
            true => store.record(first_key).unwrap_or_default(),
            false => Record::default(),
        };
        record
            .entries
            .retain(|other| other.found != entry.found || other.passed_over != entry.passed_over);
        record.entries.insert(0, entry);
        record.entries.truncate(RESULTS_PER_KEY);
        if let Err(e) = store.keep_record(first_key, &record) {
            self.store_failed(&e);
        }
    }

    pub(crate) fn store_failed(&self, error: &nubrik_store::StoreError) {
        if !self
            .store_reported
            .swap(true, std::sync::atomic::Ordering::Relaxed)
        {
            self.listener
                .hear(&Event::Notice(Notice::StoreUnusable(error.to_string())));
        }
    }

    /// Refuses the result when an input is not any more what its key says of it. Another step that
    /// noticed the change may have had it looked at again meanwhile: that it is what was seen last
    /// says nothing.
    pub(crate) fn must_be_as_examined(
        &self,
        id: StepId,
        path: &FilePath,
        digest: &Digest,
    ) -> Result<(), Failure> {
        self.must_be_unmoved(path, None)?;
        let is_same = || match path.is_of_machine() {
            true => self.system_content(path) == *digest,
            false => self.listed_content(id, path) == Some(*digest),
        };
        match self.is_made(path) || is_same() {
            true => Ok(()),
            false => Err(Failure::InputMoved { path: path.told() }),
        }
    }

    /// Whether a step makes it.
    fn is_made(&self, path: &FilePath) -> bool {
        let file = self.known.files_by_path.get(path.as_str());
        file.is_some_and(|file| self.graph.file(*file).maker.is_some())
    }

    /// Refuses the result when a source changed while the commands ran: since they began, where it
    /// was read for the first time after that, or else since it was looked at last.
    pub(crate) fn must_be_unmoved(
        &self,
        path: &FilePath,
        began: Option<Began>,
    ) -> Result<(), Failure> {
        // Made files are compared with what is remembered of their steps; links are not remembered
        // by their times.
        if self.is_made(path) || !(path.is_of_workspace() || path.is_of_machine()) {
            return Ok(());
        }
        let moved = Failure::InputMoved { path: path.told() };
        let found = self.outside.check(path);
        let entry = match self.table.entry(self.outside, path) {
            Ok(Some(entry)) => entry,
            // A place where a program would be found first, and is not.
            Ok(None) if found.is_none() && path.is_of_machine() => return Ok(()),
            // One that cannot be read, and could not be when its key was made, which says so.
            Err(_) if began.is_none() && path.is_of_machine() => return Ok(()),
            Ok(None) | Err(_) => return Err(moved),
        };
        // A file read for the first time after the commands may have been another one for them. A
        // time in the future is that of another clock, or of this one before it was set back: a
        // change of today has one of today.
        let now = self.outside.now();
        let is_new =
            |time: i64, began: i64| time + entry.signature.coarseness() >= began && time <= now;
        let too_new = began.is_some_and(|began| {
            is_new(entry.signature.touched, began.at) || is_new(entry.signature.changed, began.at)
        });
        if began.is_some_and(|began| self.table.has_moved_since(path, began)) {
            return Err(moved);
        }
        if found != Some(entry.signature) || too_new {
            self.table.look_again(path);
            return Err(moved);
        }
        Ok(())
    }

    /// The files that the commands listed, with their contents; refuses undeclared ones.
    pub(crate) fn found_inputs(
        &self,
        id: StepId,
        began: Began,
    ) -> Result<Vec<FoundInput>, Failure> {
        let step = self.graph.step(id);
        if step.found.is_empty() {
            return Ok(Vec::new());
        }
        let mut found = Vec::new();
        for listed in self.listed_files(id)? {
            if let Some(path) = listed.in_workspace() {
                if path.is_in(&step.folder) {
                    continue;
                }
                if !self.is_declared(id, &listed) {
                    if self.outside.check(&listed).is_none() {
                        continue; // A name that the command tried.
                    }
                    let target = self.maker_of(path.as_str());
                    return Err(Failure::Undeclared {
                        path: path.as_str().to_owned(),
                        target,
                    });
                }
                if self.folder_around(path.as_str()).is_none() {
                    self.must_be_unmoved(&listed, Some(began))?;
                }
                for (link, text) in self.outside.links_to(&path) {
                    let digest = Digest::of(text.as_bytes());
                    found.push(FoundInput {
                        path: FilePath::of_link(&link).shared().clone(),
                        digest,
                    });
                }
            } else if !self.is_for_others(id) {
                self.must_be_unmoved(&listed, Some(began))?;
            }
            if let Some(digest) = self.listed_content(id, &listed) {
                found.push(FoundInput {
                    path: listed.shared().clone(),
                    digest,
                });
            }
        }
        // They are looked for by their paths.
        found.sort_by(|a, b| a.path.cmp(&b.path));
        found.dedup_by(|a, b| a.path == b.path);
        Ok(found)
    }

    /// What a step's listings name. A listing of which nothing is there is of another folder than
    /// the step's: what the commands read cannot be known from it.
    pub(crate) fn listed_files(&self, id: StepId) -> Result<Vec<FilePath>, Failure> {
        let step = self.graph.step(id);
        let root = self.outside.locate(&WsPath::root()).display().to_string();
        let mut all = Vec::new();
        for listing in &step.found {
            let name = listing
                .below(&step.folder)
                .unwrap_or(listing.name())
                .to_owned();
            let bytes = self
                .outside
                .read(&FilePath::from(listing))
                .map_err(|_| Failure::NoListing { name: name.clone() })?;
            let text = String::from_utf8_lossy(&bytes);
            let roots = [root.trim_end_matches('/'), CONSTANT_ROOT];
            let work = step.work.path();
            let around = ListingContext {
                roots: &roots,
                work: &work,
                follow: &|path| self.outside.followed(path),
                // What is declared was looked at.
                exists: &|path| {
                    self.known.files_by_path.contains_key(path.as_str())
                        || self.outside.check(&FilePath::from(path)).is_some()
                },
            };
            let listed = parse_listing(&text, &around);
            let mut inside = listed.iter().filter(|file| file.is_of_workspace());
            if let Some(first) = inside.clone().next()
                && inside.all(|path| self.outside.check(path).is_none())
            {
                return Err(Failure::StrangeListing {
                    name,
                    first: first.to_string(),
                });
            }
            // What an image holds, its own digest says.
            let counts = |file: &FilePath| step.root.is_none() || file.is_of_workspace();
            all.extend(listed.into_iter().filter(counts));
        }
        all.sort();
        all.dedup();
        Ok(all)
    }

    /// Hashes the outputs and gives them to the cache.
    pub(crate) fn take_outputs(
        &self,
        id: StepId,
    ) -> Result<(Vec<OutputRecord>, Vec<Signature>), Failure> {
        let step = self.graph.step(id);
        let (mut outputs, mut signatures) = (Vec::new(), Vec::new());
        for output in &step.outputs {
            let node = self.graph.file(output.file);
            let path = &node.path;
            let odd = |below: &str, what: &str| Failure::OddOutput {
                name: if below.is_empty() {
                    output.name.to_string()
                } else {
                    format!("{}/{below}", output.name)
                },
                what: what.to_owned(),
            };
            let signature = match self.outside.look_at_made(path, &step.folder) {
                MadeThing::There(signature) if signature.is_folder() == node.folder => signature,
                MadeThing::Odd(what) => return Err(odd("", &what)),
                MadeThing::There(_) => {
                    return Err(odd("", if node.folder { IS_FILE } else { IS_FOLDER }));
                }
                MadeThing::Nothing => {
                    let instead = self.made_instead(id);
                    return Err(Failure::NoOutput {
                        name: output.name.clone(),
                        instead,
                    });
                }
            };
            if !node.folder {
                let (digest, signature) = self.take_file(path, &signature)?;
                let record = OutputRecord::File {
                    digest,
                    executable: signature.is_executable(),
                };
                if output.early && !self.is_as_given(output.file, &record) {
                    return Err(Failure::EarlyChanged {
                        name: output.name.clone(),
                    });
                }
                outputs.push(record);
                signatures.push(signature);
                continue;
            }
            let (entries, more) = self.take_folder(path, &odd)?;
            signatures.extend(more);
            outputs.push(OutputRecord::Folder(entries));
        }
        Ok((outputs, signatures))
    }

    /// Hashes all that is in an output folder and gives it to the cache. `odd` is the failure for
    /// something in it that cannot be kept, by its path and kind.
    fn take_folder(
        &self,
        path: &WsPath,
        odd: &dyn Fn(&str, &str) -> Failure,
    ) -> Result<(Vec<TreeEntry>, Vec<Signature>), Failure> {
        let (mut entries, mut signatures) = (Vec::new(), Vec::new());
        let tree = self.outside.tree(path);
        for file in tree.map_err(|e| Failure::Machine {
            problem: e.to_string(),
        })? {
            let (kind, signature) = match file.kind {
                TreeFileKind::Odd(what) => return Err(odd(&file.path, what)),
                TreeFileKind::EmptyFolder => (TreeKind::EmptyFolder, file.signature),
                TreeFileKind::Link(target) => (TreeKind::Link { target }, file.signature),
                TreeFileKind::File => {
                    let path = path.join(&file.path);
                    let (digest, signature) = self.take_file(&path, &file.signature)?;
                    let executable = signature.is_executable();
                    (TreeKind::File { digest, executable }, signature)
                }
            };
            let path = file.path.into();
            entries.push(TreeEntry { path, kind });
            signatures.push(signature);
        }
        Ok((entries, signatures))
    }

    pub(crate) fn take_file(
        &self,
        path: &WsPath,
        signature: &Signature,
    ) -> Result<(nubrik_bytes::Digest, Signature), Failure> {
        let machine = |e: std::io::Error| Failure::Machine {
            problem: format!("{path}: {e}"),
        };
        let digest = self.outside.digest(&path.into()).map_err(machine)?;
        let Some(store) = self.store else {
            return Ok((digest, *signature));
        };
        if let Err(e) = store.keep_file(
            &self.outside.locate(path),
            &digest,
            signature.is_executable(),
        ) {
            self.store_failed(&e);
        }
        // Keeping it changed its mode and its number of links.
        Ok((
            digest,
            self.outside.check_itself(path).unwrap_or(*signature),
        ))
    }

    /// Files that the commands made in the step's folder without declaring them.
    pub(crate) fn made_instead(&self, id: StepId) -> Vec<String> {
        let step = self.graph.step(id);
        let declared = |path: &str| {
            let whole = format!("{}/{path}", step.folder.as_str());
            step.found.iter().any(|f| f.as_str() == whole)
                || step.outputs.iter().any(|o| *o.name == *path)
        };
        let tree = self.outside.tree(&step.folder).unwrap_or_default();
        let made = tree.into_iter().map(|f| f.path).filter(|p| {
            !p.starts_with(".scratch/") && !p.starts_with(".kept/") && p != ".kept-whole"
        });
        made.filter(|p| !declared(p)).take(5).collect()
    }
}
