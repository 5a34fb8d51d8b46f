//! What a step reads and may read: files, and sets of files that many steps share.

use std::rc::Rc;

use nubrik_graph::{FileId, SetId};
use nubrik_source::{Span, WsPath};

use super::forms::FormValues;
use super::steps::Draft;
use super::{Evaluator, Result};
use crate::globs::all_below;
use crate::value::*;
use crate::world::Answer;

/// The set that a value with files is.
pub(super) struct ValueSet {
    _held: Rc<[FileRef]>,
    set: SetId,
    /// The unit that looked into the source folders among the files; nothing where there are none.
    only_for: Option<u32>,
}

impl Evaluator<'_> {
    /// All that the words of a draft and its field `reads` name, sorted: for what lists nothing of
    /// its own.
    pub(super) fn all_inputs(
        &mut self,
        values: &FormValues,
        draft: &mut Draft,
        span: Span,
    ) -> Result<Vec<FileId>> {
        let mut inputs = Vec::new();
        for file in std::mem::take(&mut draft.inputs) {
            self.add_input(&file, &mut inputs)?;
        }
        for file in self.files_of(&values.value("reads"), span)? {
            self.add_input(&file, &mut inputs)?;
        }
        inputs.sort_unstable();
        inputs.dedup();
        Ok(inputs)
    }

    /// Adds a file, or for a source folder all files in it, to a list of inputs.
    pub(super) fn add_input(&mut self, file: &FileRef, list: &mut Vec<FileId>) -> Result<()> {
        if file.folder && file.maker.is_none() {
            let Answer::Ready(paths) = all_below(self.world, &file.path) else {
                return self.wait();
            };
            for path in paths {
                list.push(self.file_id(&FileRef {
                    path,
                    maker: None,
                    folder: false,
                }));
            }
        } else {
            list.push(self.file_id(file));
        }
        Ok(())
    }

    /// The set of all files in a source folder; put together once for each declaration, which takes
    /// what it reads of the outside upon itself.
    pub(super) fn folder_set(&mut self, folder: &WsPath) -> Result<SetId> {
        let key = (self.unit(), folder.clone());
        if let Some(known) = self.drafting.folder_sets.get(&key) {
            return Ok(*known);
        }
        let mut files = Vec::new();
        self.add_input(
            &FileRef {
                path: folder.clone(),
                maker: None,
                folder: true,
            },
            &mut files,
        )?;
        let set = self.drafting.graph.sets.intern(files);
        self.drafting.folder_sets.insert(key, set);
        Ok(set)
    }

    /// Adds the sets of files that a value represents: a set that many steps are given stays one.
    pub(super) fn add_candidates(
        &mut self,
        value: &Value,
        span: Span,
        sets: &mut Vec<SetId>,
    ) -> Result<()> {
        let mut rest = Vec::new();
        let parts = match value {
            Value::List(items) => items,
            value => std::slice::from_ref(value),
        };
        for part in parts {
            match part {
                Value::Files(files) => sets.push(self.set_of(files)?),
                // Folders have sets of their own.
                Value::File(file) if file.folder && file.maker.is_none() => {
                    sets.push(self.folder_set(&file.path)?);
                }
                part => rest.extend(self.files_of(part, span)?),
            }
        }
        if !rest.is_empty() {
            sets.push(self.interned(&rest)?);
        }
        Ok(())
    }

    /// The set of some files; known by the value that holds them.
    pub(super) fn set_of(&mut self, files: &Rc<[FileRef]>) -> Result<SetId> {
        let unit = self.unit();
        if let Some(known) = self.drafting.value_sets.get(&files.as_ptr())
            && known.only_for.is_none_or(|only| only == unit)
        {
            return Ok(known.set);
        }
        let set = self.interned(files)?;
        let looks_outside = files.iter().any(|file| file.folder && file.maker.is_none());
        let only_for = looks_outside.then_some(unit);
        // No other value can be at this place while this one is held.
        self.drafting.value_sets.insert(
            files.as_ptr(),
            ValueSet {
                _held: files.clone(),
                set,
                only_for,
            },
        );
        Ok(set)
    }

    pub(super) fn interned(&mut self, files: &[FileRef]) -> Result<SetId> {
        let mut ids = Vec::with_capacity(files.len());
        for file in files {
            self.add_input(file, &mut ids)?;
        }
        Ok(self.drafting.graph.sets.intern(ids))
    }
}
