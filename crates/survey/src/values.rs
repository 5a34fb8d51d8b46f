//! Values in proposed definitions, and what these use of kits.

use std::collections::BTreeSet;

/// A kit that the program carries.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Kit {
    /// C and C++.
    C,
    /// Documents.
    Documents,
    /// Fortran.
    Fortran,
    /// Go.
    Go,
    /// Java.
    Java,
    /// JavaScript and TypeScript.
    Js,
    /// Python.
    Python,
    /// Rust.
    Rust,
}

impl Kit {
    /// All of them.
    pub const ALL: [Kit; 8] = [
        Kit::C,
        Kit::Documents,
        Kit::Fortran,
        Kit::Go,
        Kit::Java,
        Kit::Js,
        Kit::Python,
        Kit::Rust,
    ];

    /// What definitions call it, and what is behind `nub:`.
    pub fn name(self) -> &'static str {
        match self {
            Kit::C => "c",
            Kit::Documents => "documents",
            Kit::Fortran => "fortran",
            Kit::Go => "go",
            Kit::Java => "java",
            Kit::Js => "js",
            Kit::Python => "python",
            Kit::Rust => "rust",
        }
    }

    /// The language, for people.
    pub fn language(self) -> &'static str {
        match self {
            Kit::C => "C and C++",
            Kit::Documents => "documents",
            Kit::Fortran => "Fortran",
            Kit::Go => "Go",
            Kit::Java => "Java",
            Kit::Js => "JavaScript and TypeScript",
            Kit::Python => "Python",
            Kit::Rust => "Rust",
        }
    }
}

/// A definition of a package, from its name on.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct DefinitionAddress {
    /// The package, from the top of the tree.
    pub package: String,
    /// The definition.
    pub name: String,
}

impl DefinitionAddress {
    /// As the command line has it, from a folder that the tree is in.
    pub fn below(&self, top: &str) -> String {
        let parts = [top, &self.package, &self.name];
        parts
            .into_iter()
            .filter(|part| !part.is_empty())
            .collect::<Vec<_>>()
            .join("/")
    }
}

/// A value of a field.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum FieldValue {
    /// A text.
    Text(String),
    /// `true` or `false`.
    Bool(bool),
    /// A list, on one line if it fits.
    List(Vec<FieldValue>),
    /// A map with texts as keys.
    Map(Vec<(String, FieldValue)>),
    /// Files of the tree, by their paths from its top. They are written as globs where these mean
    /// the same.
    Files(BTreeSet<String>),
    /// The same, all below a folder: a new file in a new folder there belongs to them, too.
    Below(String, BTreeSet<String>),
    /// A folder of the tree.
    Folder(String),
    /// A folder to write in.
    Place(WritablePlace),
    /// A definition.
    Of(DefinitionAddress),
    /// A package of `pins.toml`.
    Pinned(Kit, String),
    /// A library of this machine, by its name.
    SystemLibrary(String),
    /// An expression as it is written.
    Code(String),
    /// An expression in which definitions are named.
    Expression(Expression),
}

/// An expression as it is written, but for the names of definitions, which are known only when it
/// is.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct Expression {
    /// Its parts, in order.
    pub parts: Vec<ExpressionPart>,
}

/// A part of an expression.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum ExpressionPart {
    /// As it is written.
    Text(String),
    /// The name of a definition.
    Of(DefinitionAddress),
}

impl Expression {
    /// A text alone.
    pub fn text(text: impl Into<String>) -> Expression {
        Expression {
            parts: vec![ExpressionPart::Text(text.into())],
        }
    }

    /// A definition's name alone.
    pub fn of(address: &DefinitionAddress) -> Expression {
        Expression {
            parts: vec![ExpressionPart::Of(address.clone())],
        }
    }

    /// The same with a text behind it.
    pub fn then(mut self, text: &str) -> Expression {
        self.parts.push(ExpressionPart::Text(text.to_owned()));
        self
    }

    /// The same with another one behind it.
    pub fn with(mut self, other: Expression) -> Expression {
        self.parts.extend(other.parts);
        self
    }

    /// Several with a text between each two of them.
    pub fn joined(all: Vec<Expression>, between: &str) -> Expression {
        let mut joined = Expression::default();
        for (at, one) in all.into_iter().enumerate() {
            joined = if at == 0 {
                joined
            } else {
                joined.then(between)
            };
            joined = joined.with(one);
        }
        joined
    }
}

impl FieldValue {
    /// A text.
    pub fn text(text: impl Into<String>) -> FieldValue {
        FieldValue::Text(text.into())
    }

    /// A list of texts.
    pub fn texts(texts: impl IntoIterator<Item = impl Into<String>>) -> FieldValue {
        FieldValue::List(texts.into_iter().map(FieldValue::text).collect())
    }

    /// Whether it is empty, so that a field with it says nothing.
    fn is_empty(&self) -> bool {
        match self {
            FieldValue::List(items) => items.is_empty(),
            FieldValue::Map(rows) => rows.is_empty(),
            FieldValue::Files(files) | FieldValue::Below(_, files) => files.is_empty(),
            FieldValue::Text(_)
            | FieldValue::Bool(_)
            | FieldValue::Folder(_)
            | FieldValue::Place(..)
            | FieldValue::Of(_)
            | FieldValue::Pinned(..)
            | FieldValue::SystemLibrary(_)
            | FieldValue::Code(_)
            | FieldValue::Expression(_) => false,
        }
    }

    /// Calls for each value in it, and for itself.
    pub fn walk<'v>(&'v self, call: &mut impl FnMut(&'v FieldValue)) {
        call(self);
        match self {
            FieldValue::List(items) => items.iter().for_each(|item| item.walk(call)),
            FieldValue::Map(rows) => rows.iter().for_each(|(_, value)| value.walk(call)),
            _ => {}
        }
    }
}

/// A folder to write in, with files of the tree.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct WritablePlace {
    /// The folder of the tree that it is like: a file has in it the path that it has below this
    /// one.
    pub root: String,
    /// The files, from the tree's top.
    pub files: BTreeSet<String>,
    /// Folders that are there, too, though no file of the tree is in them; from the tree's top.
    pub empty: BTreeSet<String>,
}

/// What a definition says with a form of the language itself, such as `step` and `check`.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct FormCall {
    /// The form.
    pub form: &'static str,
    /// Fields in the order in which they are written.
    pub fields: Vec<(&'static str, FieldValue)>,
    /// Files of the tree that its commands name.
    pub takes: BTreeSet<String>,
}

impl FormCall {
    /// A field's value.
    pub fn field(&self, field: &str) -> Option<&FieldValue> {
        self.fields
            .iter()
            .find(|(name, _)| *name == field)
            .map(|(_, value)| value)
    }

    /// Adds files to those that it reads. Says whether any is new.
    pub fn add_reads(&mut self, more: &BTreeSet<String>) -> bool {
        let known = |value: &FieldValue| match value {
            FieldValue::Files(files) => files.clone(),
            _ => BTreeSet::new(),
        };
        let at = self.fields.iter().position(|(name, _)| *name == "reads");
        let mut values: Vec<FieldValue> = match at.map(|at| self.fields.remove(at).1) {
            Some(FieldValue::List(values)) => values,
            other => other.into_iter().collect(),
        };
        let mut files: BTreeSet<String> = values.iter().flat_map(known).collect();
        let before = files.len();
        files.extend(more.difference(&self.takes).cloned());
        let is_more = files.len() > before;
        values.retain(|value| !matches!(value, FieldValue::Files(_)));
        values.insert(0, FieldValue::Files(files));
        values.retain(|value| !value.is_empty());
        if !values.is_empty() {
            self.fields.push(("reads", FieldValue::List(values)));
        }
        is_more
    }
}

/// What a definition uses of a kit.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct KindCall {
    /// The kit.
    pub kit: Kit,
    /// Its kind.
    pub kind: &'static str,
    /// Fields in the order in which they are written.
    pub fields: Vec<(&'static str, FieldValue)>,
}

impl KindCall {
    /// A call without fields.
    pub fn new(kit: Kit, kind: &'static str) -> KindCall {
        KindCall {
            kit,
            kind,
            fields: Vec::new(),
        }
    }

    /// With a field, if the value says something.
    pub fn with(mut self, field: &'static str, value: FieldValue) -> KindCall {
        self.set(field, value);
        self
    }

    /// Sets a field, or takes it away if the value says nothing.
    pub fn set(&mut self, field: &'static str, value: FieldValue) {
        let is_empty = value.is_empty();
        match self.fields.iter().position(|(name, _)| *name == field) {
            Some(place) if is_empty => {
                self.fields.remove(place);
            }
            Some(place) => self.fields[place].1 = value,
            None if is_empty => {}
            None => self.fields.push((field, value)),
        }
    }

    /// A field's value.
    pub fn field(&self, field: &str) -> Option<&FieldValue> {
        self.fields
            .iter()
            .find(|(name, _)| *name == field)
            .map(|(_, value)| value)
    }

    /// The files of a field; none where it is not there.
    pub fn files(&self, field: &str) -> BTreeSet<String> {
        match self.field(field) {
            Some(FieldValue::Files(files) | FieldValue::Below(_, files)) => files.clone(),
            // Beside what is made there may be files, too.
            Some(FieldValue::List(items)) => {
                let files = items.iter().filter_map(|item| match item {
                    FieldValue::Files(files) => Some(files.iter().cloned()),
                    _ => None,
                });
                files.flatten().collect()
            }
            _ => BTreeSet::new(),
        }
    }

    /// Adds files to a field. Says whether any is new.
    pub fn add_files(
        &mut self,
        field: &'static str,
        more: impl IntoIterator<Item = String>,
    ) -> bool {
        let mut files = self.files(field);
        let before = files.len();
        files.extend(more);
        let is_more = files.len() > before;
        if is_more {
            self.set_files(field, files);
        }
        is_more
    }

    /// Sets the files of a field. What is made and is beside them stays.
    pub fn set_files(&mut self, field: &'static str, files: BTreeSet<String>) {
        let value = match self.field(field) {
            Some(FieldValue::Below(root, _)) => FieldValue::Below(root.clone(), files),
            Some(FieldValue::List(items)) => {
                let others = items
                    .iter()
                    .filter(|item| !matches!(item, FieldValue::Files(_)))
                    .cloned();
                FieldValue::List(others.chain([FieldValue::Files(files)]).collect())
            }
            _ => FieldValue::Files(files),
        };
        self.set(field, value);
    }

    /// Adds an item to a list. Says whether it is new.
    pub fn add_item(&mut self, field: &'static str, item: FieldValue) -> bool {
        let mut items = match self.field(field) {
            Some(FieldValue::List(items)) => items.clone(),
            Some(one) => vec![one.clone()],
            None => Vec::new(),
        };
        let is_new = !items.contains(&item);
        if is_new {
            items.push(item);
            self.set(field, FieldValue::List(items));
        }
        is_new
    }
}
