//! Types, and how values become values of them.

use std::sync::Arc;

use crate::hir::DeclId;
use nubrik_diagnostic::{Diagnostic, nearest};

/// A type.
#[derive(Clone, PartialEq, Debug)]
pub(crate) enum Type {
    /// Wrong, and reported: takes anything.
    Unknown,
    Bool,
    Int,
    Text,
    Duration,
    File,
    Folder,
    Files,
    Command,
    Step,
    Check,
    Service,
    /// Anything that data files hold.
    Any,
    List(Box<Type>),
    Map(Box<Type>),
    Record(Arc<[(Arc<str>, Type)]>),
    Alternatives(Arc<[Arc<str>]>),
    Optional(Box<Type>),
    /// A declared type: its name, and where it was declared.
    Named(Arc<str>, DeclId, Box<Type>),
}

impl Type {
    /// The type without names and `?` around it.
    pub fn core(&self) -> &Type {
        match self {
            Type::Named(_, _, inner) => inner.core(),
            other => other,
        }
    }

    /// The type in the words of the language.
    pub fn written(&self) -> String {
        match self {
            Type::Unknown => "anything".to_owned(),
            Type::Bool => "bool".to_owned(),
            Type::Int => "int".to_owned(),
            Type::Text => "text".to_owned(),
            Type::Duration => "duration".to_owned(),
            Type::Any => "any".to_owned(),
            Type::File => "file".to_owned(),
            Type::Folder => "folder".to_owned(),
            Type::Files => "files".to_owned(),
            Type::Command => "command".to_owned(),
            Type::Step => "step".to_owned(),
            Type::Check => "check".to_owned(),
            Type::Service => "service".to_owned(),
            Type::List(inner) => format!("list[{}]", inner.written()),
            Type::Map(inner) => format!("map[{}]", inner.written()),
            Type::Record(fields) => {
                let fields: Vec<String> = fields
                    .iter()
                    .map(|(n, t)| format!("{n}: {}", t.written()))
                    .collect();
                format!("{{ {} }}", fields.join(", "))
            }
            Type::Alternatives(texts) => {
                let texts: Vec<String> = texts.iter().map(|t| format!("\"{t}\"")).collect();
                texts.join(" | ")
            }
            Type::Optional(inner) => format!("{}?", inner.written()),
            Type::Named(name, ..) => name.to_string(),
        }
    }
}

/// A duration as it is written: in the largest unit that it is a whole number of.
pub(crate) fn shown_duration(millis: u64) -> String {
    match millis {
        0 => "0s".to_owned(),
        m if m % 3_600_000 == 0 => format!("{}h", m / 3_600_000),
        m if m % 60_000 == 0 => format!("{}min", m / 60_000),
        m if m % 1_000 == 0 => format!("{}s", m / 1_000),
        m => format!("{m}ms"),
    }
}

/// The error for a value of the wrong type.
pub(crate) fn wrong_type(found: &str, wanted: &Type) -> Diagnostic {
    Diagnostic::error(
        "wrong-type",
        format!("expected {}, found {found}", wanted.written()),
    )
}

/// The error for a text that is none of some alternatives.
pub(crate) fn not_an_alternative(text: &str, texts: &[Arc<str>]) -> Diagnostic {
    let all: Vec<String> = texts.iter().map(|t| format!("\"{t}\"")).collect();
    let near = nearest(text, texts.iter().map(|t| &**t)).map(|n| format!("\"{n}\""));
    Diagnostic::error(
        "wrong-type",
        format!("expected {}, found \"{text}\"", all.join(" or ")),
    )
    .maybe_mend(near)
}
