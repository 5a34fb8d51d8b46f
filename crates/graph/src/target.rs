//! Declarations that own steps or results.

use std::sync::Arc;

use nubrik_source::WsPath;

use crate::{FileId, Place};

/// A result of a target and the readable name under which it is published.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ResultFile {
    /// The address of the value that it belongs to: `tide/pages/ardle`.
    pub address: Arc<str>,
    /// The file or folder.
    pub file: FileId,
    /// Where it is published, below the folder of results.
    pub publish: WsPath,
}

/// What a declaration that owns steps or results is for.
#[derive(Clone, Copy, PartialEq, Eq, Debug, PartialOrd, Ord)]
pub enum Role {
    /// A value with steps of its own; listed by no command.
    Inner,
    /// It makes files.
    Target,
    /// It gives verdicts.
    Test,
    /// It is done for its effect.
    Job,
    /// It runs while others need it.
    Service,
}

impl Role {
    /// The word that declares it.
    pub fn word(self) -> &'static str {
        match self {
            Role::Inner => "let",
            Role::Target => "target",
            Role::Test => "test",
            Role::Job => "job",
            Role::Service => "service",
        }
    }
}

/// A declaration that owns steps or results.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Target {
    /// Package and name: `tide/harmonics`.
    pub address: Arc<str>,
    /// The package's folder.
    pub package: WsPath,
    /// What it is: the name of its kind, or of the form that made it.
    pub kind: Arc<str>,
    /// The field of its kind that takes files which its steps read; empty where there is none.
    pub reads_field: Arc<str>,
    /// Its documentation; empty where there is none.
    pub documentation: Arc<str>,
    /// Where it was declared.
    pub place: Place,
    /// What it was declared as.
    pub role: Role,
    /// Whether only its own package may use it.
    pub private: bool,
    /// Its tags.
    pub tags: Vec<Arc<str>>,
    /// Its results. Empty until the target is asked for.
    pub results: Vec<ResultFile>,
}

impl Target {
    /// A target of the root with an address and nothing else.
    pub fn plain(address: &str) -> Target {
        Target {
            address: address.into(),
            package: WsPath::root(),
            kind: "".into(),
            reads_field: "".into(),
            documentation: "".into(),
            place: Place {
                file: "targets.nub".into(),
                line: 1,
            },
            role: Role::Target,
            private: false,
            tags: Vec::new(),
            results: Vec::new(),
        }
    }

    /// The same without its results, of which there may be many.
    pub fn without_results(&self) -> Target {
        let Target {
            address,
            package,
            kind,
            reads_field,
            documentation,
            place,
            role,
            private,
            tags,
            results: _,
        } = self;
        Target {
            address: address.clone(),
            package: package.clone(),
            kind: kind.clone(),
            reads_field: reads_field.clone(),
            documentation: documentation.clone(),
            place: place.clone(),
            role: *role,
            private: *private,
            tags: tags.clone(),
            results: Vec::new(),
        }
    }

    /// Takes over of the same target, as another evaluation met it, whatever this one lacks: one
    /// that others only use has neither a kind, with the field that it reads, nor results until it
    /// is asked for.
    pub fn absorb(&mut self, other: Target) {
        let Target {
            kind,
            reads_field,
            results,
            // Each evaluation that met it knows these.
            address: _,
            package: _,
            documentation: _,
            place: _,
            role: _,
            private: _,
            tags: _,
        } = other;
        if self.kind.is_empty() {
            (self.kind, self.reads_field) = (kind, reads_field);
        }
        if self.results.is_empty() {
            self.results = results;
        }
    }

    /// Whether people know it by its address.
    pub fn is_declared(&self) -> bool {
        self.role != Role::Inner
    }
}
