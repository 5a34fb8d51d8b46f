//! Names that the language itself has: its forms and functions with their fields, and the methods
//! of its values. Evaluation, `nubrik explain` and the reference all read these tables. The rows of
//! forms are in `eval/forms/`.

use crate::eval::FORMS;

/// A form or function of the language, in the order of the rows of [`forms`].
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[allow(missing_docs)] // [`forms`] says what each one is.
pub enum Builtin {
    Step,
    Check,
    Effect,
    Serve,
    Glob,
    Write,
    Stage,
    Pack,
    Unpack,
    Fetch,
    Image,
    ImageOf,
    Tool,
    SystemLibrary,
    Sample,
    Probe,
    Extract,
    LoadCsv,
    LoadJson,
    LoadToml,
    LoadLines,
    PinsOf,
    Env,
    Secret,
    Host,
    Beside,
    Demand,
    CommandsOf,
}

impl Builtin {
    /// The last one.
    pub(crate) const LAST: Builtin = Builtin::CommandsOf;
}

/// What a field of a form takes.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum FieldType {
    /// A text.
    Text,
    /// A text or several.
    Texts,
    /// Files, as wherever files are wanted.
    Files,
    /// One file.
    File,
    /// A source folder, or one that a step makes.
    Folder,
    /// Whether.
    Bool,
    /// A number.
    Int,
    /// A duration.
    Duration,
    /// A command or several.
    Commands,
    /// A port: a number or a text.
    Port,
    /// Texts by name.
    TextMap,
    /// Files by the place where they go, or a folder, or files that go to the top.
    Places,
}

impl FieldType {
    /// The type as people read it.
    pub fn shown(self) -> &'static str {
        match self {
            FieldType::Text => "text",
            FieldType::Texts => "text or list[text]",
            FieldType::Files => "files",
            FieldType::File => "file",
            FieldType::Folder => "folder",
            FieldType::Bool => "bool",
            FieldType::Int => "int",
            FieldType::Duration => "duration",
            FieldType::Commands => "command or list[command]",
            FieldType::TextMap => "map[text]",
            FieldType::Places => "{ \"to/path\": files }, a folder, or files",
            FieldType::Port => "a number or a text",
        }
    }
}

/// A field of a form, or a parameter of a function of the language.
#[derive(Clone, Copy, Debug)]
pub struct FieldInfo {
    /// Its name.
    pub name: &'static str,
    /// What it takes.
    pub ty: FieldType,
    /// Whether it must be given.
    pub needed: bool,
    /// What it is for.
    pub doc: &'static str,
}

/// How a form is called.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum CallShape {
    /// `name { field = value }`.
    Braces,
    /// `name(value)`.
    Brackets,
    /// `name` alone.
    Plain,
}

/// A form or function of the language, for evaluation and for people.
#[derive(Clone, Copy, Debug)]
pub struct FormInfo {
    /// Its name.
    pub name: &'static str,
    /// What it is.
    pub builtin: Builtin,
    /// How it is called.
    pub shape: CallShape,
    /// What it makes, in one sentence.
    pub doc: &'static str,
    /// Its fields.
    pub fields: &'static [FieldInfo],
    /// What the value offers: names after a dot.
    pub gives: &'static [(&'static str, &'static str)],
    /// How it is used.
    pub example: &'static str,
}

/// All forms and functions, in the order in which people read about them.
pub fn forms() -> impl Iterator<Item = &'static FormInfo> {
    FORMS.iter().map(|form| &form.info)
}

/// The form of this name.
pub fn form(name: &str) -> Option<&'static FormInfo> {
    forms().find(|f| f.name == name)
}

/// What there is to know of a form.
pub fn form_of(builtin: Builtin) -> &'static FormInfo {
    &FORMS[builtin as usize].info
}

/// Whether the language gives a name its meaning, so that it cannot be declared.
pub fn is_builtin_name(name: &str) -> bool {
    matches!(name, "self" | "sh") || form(name).is_some()
}

/// The meaning of a name of the language; `self` is handled where it may be.
pub fn builtin(name: &str) -> Option<Builtin> {
    form(name).map(|form| form.builtin)
}

/// A method or property of values, the same for all types that have it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[allow(missing_docs)] // [`METHODS`] says what each one gives.
pub enum Method {
    Path,
    Name,
    Stem,
    Ext,
    Folder,
    Below,
    RelativeTo,
    Join,
    Split,
    Lines,
    Replace,
    StartsWith,
    EndsWith,
    Lower,
    Upper,
    Trim,
    ToInt,
    Len,
    Flat,
    Sorted,
    Unique,
    UniqueLast,
    SortedBy,
    UniqueBy,
    IndexBy,
    GroupBy,
    Keys,
    Values,
    First,
    Last,
    Get,
    Slice,
    Reversed,
    ToJson,
    FromJson,
    Matches,
    FindAll,
    Captures,
    ReplaceMatches,
}

/// What there is to know of a method.
#[derive(Clone, Copy, Debug)]
pub struct MethodInfo {
    /// Its name.
    pub name: &'static str,
    /// How many arguments it takes; none: it is a property and takes no brackets.
    pub args: usize,
    /// What it is.
    pub method: Method,
    /// What has it.
    pub of: &'static str,
    /// What it gives.
    pub doc: &'static str,
}

const fn method_info(
    name: &'static str,
    args: usize,
    method: Method,
    of: &'static str,
    doc: &'static str,
) -> MethodInfo {
    MethodInfo {
        name,
        args,
        method,
        of,
        doc,
    }
}

/// All methods and properties.
pub const METHODS: [MethodInfo; 39] = [
    method_info(
        "path",
        0,
        Method::Path,
        "files",
        "the whole path from the workspace's root",
    ),
    method_info(
        "name",
        0,
        Method::Name,
        "files",
        "the last part of the path: `fit.c`",
    ),
    method_info(
        "stem",
        0,
        Method::Stem,
        "files",
        "the name without its last ending: `fit`",
    ),
    method_info(
        "ext",
        0,
        Method::Ext,
        "files",
        "the last ending without its dot: `c`",
    ),
    method_info(
        "folder",
        0,
        Method::Folder,
        "files",
        "the path of the folder that it is in",
    ),
    method_info(
        "below",
        1,
        Method::Below,
        "files",
        "the path below a folder; of an output, the name that it was given",
    ),
    method_info(
        "relative_to",
        1,
        Method::RelativeTo,
        "files",
        "the path as it is written from a folder, or from the folder of a file: `../lib/fit.c`",
    ),
    method_info(
        "join",
        1,
        Method::Join,
        "lists",
        "one text of all items, with a text between them",
    ),
    method_info(
        "split",
        1,
        Method::Split,
        "texts",
        "the parts between occurrences of a text",
    ),
    method_info(
        "lines",
        0,
        Method::Lines,
        "texts",
        "the lines, without their ends",
    ),
    method_info(
        "replace",
        2,
        Method::Replace,
        "texts",
        "the text with all occurrences of one text replaced by another",
    ),
    method_info(
        "starts_with",
        1,
        Method::StartsWith,
        "texts",
        "whether it begins with a text",
    ),
    method_info(
        "ends_with",
        1,
        Method::EndsWith,
        "texts",
        "whether it ends with a text",
    ),
    method_info(
        "lower",
        0,
        Method::Lower,
        "texts",
        "the text in small letters",
    ),
    method_info(
        "upper",
        0,
        Method::Upper,
        "texts",
        "the text in capital letters",
    ),
    method_info(
        "trim",
        0,
        Method::Trim,
        "texts",
        "the text without white space at its ends",
    ),
    method_info(
        "to_int",
        0,
        Method::ToInt,
        "texts",
        "the number that the text is",
    ),
    method_info(
        "len",
        0,
        Method::Len,
        "lists, maps, texts",
        "how many items or characters there are",
    ),
    method_info(
        "flat",
        0,
        Method::Flat,
        "lists",
        "the items of lists in the list, one level up",
    ),
    method_info("sorted", 0, Method::Sorted, "lists", "the items in order"),
    method_info(
        "unique",
        0,
        Method::Unique,
        "lists",
        "without duplicates, the first one kept",
    ),
    method_info(
        "unique_last",
        0,
        Method::UniqueLast,
        "lists",
        "without duplicates, the last one kept, as in link order",
    ),
    method_info(
        "sorted_by",
        1,
        Method::SortedBy,
        "lists",
        "the items in the order of a field of theirs, or of what a function gives for each",
    ),
    method_info(
        "unique_by",
        1,
        Method::UniqueBy,
        "lists",
        "the first item of each value of a field, or of what a function gives for each",
    ),
    method_info(
        "index_by",
        1,
        Method::IndexBy,
        "lists",
        "a map from each value of a field, or what a function gives, to the item that has it: one each",
    ),
    method_info(
        "group_by",
        1,
        Method::GroupBy,
        "lists",
        "a map from each value of a field, or what a function gives, to the list of the items that have it",
    ),
    method_info("keys", 0, Method::Keys, "maps", "the keys in order"),
    method_info("values", 0, Method::Values, "maps", "the values in order"),
    method_info(
        "first",
        0,
        Method::First,
        "lists",
        "the first item; an empty list has none",
    ),
    method_info(
        "last",
        0,
        Method::Last,
        "lists",
        "the last item; an empty list has none",
    ),
    method_info(
        "get",
        2,
        Method::Get,
        "lists, maps",
        "the item with a number, or the value with a key, or else the second argument",
    ),
    method_info(
        "slice",
        2,
        Method::Slice,
        "lists",
        "the items from one number up to, but without, another one; what is not there is left out",
    ),
    method_info(
        "reversed",
        0,
        Method::Reversed,
        "lists",
        "the items from the last to the first",
    ),
    method_info(
        "to_json",
        0,
        Method::ToJson,
        "texts, numbers, bools, lists, maps, records",
        "the value as JSON, in one line",
    ),
    method_info(
        "from_json",
        0,
        Method::FromJson,
        "texts",
        "what the text is as JSON, like a data file",
    ),
    method_info(
        "matches",
        1,
        Method::Matches,
        "texts",
        "whether a regular expression is found in the text; `^` and `$` are its ends",
    ),
    method_info(
        "captures",
        1,
        Method::Captures,
        "texts",
        "what a regular expression finds first: the whole, then each of its groups; `none` if nothing",
    ),
    method_info(
        "find_all",
        1,
        Method::FindAll,
        "texts",
        "all that a regular expression finds: of each match the first group, or else all of it",
    ),
    method_info(
        "replace_matches",
        2,
        Method::ReplaceMatches,
        "texts",
        "the text with all that a regular expression finds replaced; `${1}` is the first group",
    ),
];

/// The method of this name, with the number of its arguments.
pub fn method(name: &str) -> Option<(usize, Method)> {
    METHODS
        .iter()
        .find(|m| m.name == name)
        .map(|m| (m.args, m.method))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_form_and_method_is_told_apart() {
        for form in forms() {
            assert_eq!(form_of(form.builtin).name, form.name);
            assert!(form.doc.ends_with('.'), "{}", form.name);
        }
        let mut names: Vec<&str> = METHODS.iter().map(|m| m.name).collect();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), METHODS.len());
    }
}
