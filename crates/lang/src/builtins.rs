//! Names that the language itself has, and the methods of its values.

/// A form or function of the language.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Builtin {
    /// `step { … }`.
    Step,
    /// `glob("…")`.
    Glob,
}

/// What a name of the language is.
pub enum BuiltinName {
    /// It can be used.
    Usable(Builtin),
    /// The language has it, this version does not.
    NotYet,
}

/// Names that cannot be declared, since the language gives them a meaning.
pub const BUILTIN_NAMES: [&str; 23] = [
    "step",
    "glob",
    "self",
    "check",
    "effect",
    "serve",
    "tool",
    "probe",
    "scan",
    "write",
    "stage",
    "pack",
    "unpack",
    "fetch",
    "load_csv",
    "load_json",
    "load_toml",
    "load_lines",
    "env",
    "secret",
    "host",
    "beside",
    "sh",
];

/// The meaning of a name of the language; `self` is handled where it may stand.
pub fn builtin(name: &str) -> Option<BuiltinName> {
    match name {
        "step" => Some(BuiltinName::Usable(Builtin::Step)),
        "glob" => Some(BuiltinName::Usable(Builtin::Glob)),
        "self" => None,
        name if BUILTIN_NAMES.contains(&name) => Some(BuiltinName::NotYet),
        _ => None,
    }
}

/// A method or property of values, the same for all types that have it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[allow(missing_docs)] // `docs/language.md` lists them with their meanings.
pub enum Method {
    Path,
    Name,
    Stem,
    Ext,
    Dir,
    Below,
    Join,
    Split,
    Replace,
    StartsWith,
    EndsWith,
    Lower,
    Upper,
    Trim,
    Len,
    Flat,
    Sorted,
    Unique,
    UniqueLast,
    Keys,
    Values,
}

/// A method's name, whether it takes arguments in brackets, and what it is.
pub const METHODS: [(&str, usize, Method); 21] = [
    ("path", 0, Method::Path),
    ("name", 0, Method::Name),
    ("stem", 0, Method::Stem),
    ("ext", 0, Method::Ext),
    ("dir", 0, Method::Dir),
    ("below", 1, Method::Below),
    ("join", 1, Method::Join),
    ("split", 1, Method::Split),
    ("replace", 2, Method::Replace),
    ("starts_with", 1, Method::StartsWith),
    ("ends_with", 1, Method::EndsWith),
    ("lower", 0, Method::Lower),
    ("upper", 0, Method::Upper),
    ("trim", 0, Method::Trim),
    ("len", 0, Method::Len),
    ("flat", 0, Method::Flat),
    ("sorted", 0, Method::Sorted),
    ("unique", 0, Method::Unique),
    ("unique_last", 0, Method::UniqueLast),
    ("keys", 0, Method::Keys),
    ("values", 0, Method::Values),
];

/// The method of this name, with the number of its arguments.
pub fn method(name: &str) -> Option<(usize, Method)> {
    METHODS.iter().find(|(n, _, _)| *n == name).map(|(_, args, method)| (*args, *method))
}
