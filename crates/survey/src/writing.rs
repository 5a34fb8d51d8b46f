//! Proposed definitions as text.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use nubrik_source::TextId;

use crate::covers::{Cover, covers};
use crate::omitted::omission_lines;
use crate::proposal::{
    Body, Definition, DefinitionAddress, ExpressionPart, FieldValue, FormCall, KindCall, Kit,
    Omission, Proposal, WritablePlace,
};
use crate::tree::{SourceTree, below, is_below};

/// A line with more characters is broken.
pub(crate) const WIDTH: usize = 110;

/// Writes definitions as text.
pub struct DefinitionWriter<'a> {
    tree: &'a SourceTree,
    /// The folder of the tree, from the workspace's root; empty for the root.
    top: &'a str,
    /// All folders with definitions, from the tree's top: files in them belong to no package above.
    packages: BTreeSet<String>,
    /// Sources of definitions that are left out, with why: so that nobody proposes them again.
    without: Vec<(String, String)>,
}

impl<'a> DefinitionWriter<'a> {
    /// A writer of what is proposed for a tree, which lies in a folder of a workspace where these
    /// packages are already, from the tree's top.
    pub fn new(
        tree: &'a SourceTree,
        top: &'a str,
        proposal: &Proposal,
        packages: &BTreeSet<String>,
    ) -> DefinitionWriter<'a> {
        let proposed = proposal.packages().into_iter().map(str::to_owned);
        let files = |left: &Omission| {
            let why = left
                .why
                .lines()
                .next()
                .unwrap_or_default()
                .trim_end_matches('.')
                .to_owned();
            left.files
                .iter()
                .map(|file| (file.clone(), why.clone()))
                .collect::<Vec<_>>()
        };
        let taken: BTreeSet<String> = proposal
            .definitions
            .iter()
            .flat_map(|one| one.takes())
            .collect();
        let without = proposal
            .left_out
            .iter()
            .flat_map(files)
            .filter(|(file, _)| !taken.contains(file))
            .collect();
        DefinitionWriter {
            tree,
            top,
            packages: proposed.chain(packages.iter().cloned()).collect(),
            without,
        }
    }

    /// The definitions of one package: the whole text of a `targets.nub`.
    pub fn package(&self, definitions: &[&Definition]) -> String {
        let kits = kits_of(definitions);
        let package = definitions
            .first()
            .map_or("", |one| one.address.package.as_str());
        let mut text =
            String::from("# Targets of this folder, proposed from its sources. Edit freely.\n");
        let without = self
            .without
            .iter()
            .filter(|(file, _)| self.package_of(file) == package);
        let without = without.map(|(file, why)| (file.as_str(), why.as_str()));
        text.push_str(&omission_lines(package, WIDTH, without).concat());
        for kit in kits {
            text.push_str(&use_line(kit));
        }
        let shared = SharedLists::of(definitions);
        for (name, list) in &shared.lists {
            let line = format!("private let {name} = {}", self.value(package, list));
            let line = match line.chars().count() <= WIDTH {
                true => line,
                false => format!("private let {name} = {}", self.long_value(package, list, 0)),
            };
            text.push_str(&format!("\n{line}\n"));
        }
        for definition in definitions {
            text.push('\n');
            text.push_str(&self.definition(&shared.named_in(definition)));
        }
        tidy(&text)
    }

    /// One definition, with its documentation and a line break at its end.
    pub fn definition(&self, definition: &Definition) -> String {
        let package = &definition.address.package;
        let mut text = String::new();
        if !definition.documentation.is_empty() {
            text.push_str(&format!("## {}\n", definition.documentation));
        }
        for reason in &definition.reasons {
            for line in reason.lines() {
                text.push_str(&format!("# {line}\n"));
            }
        }
        let without = definition
            .without
            .iter()
            .map(|(file, why)| (file.as_str(), why.as_str()));
        text.push_str(&omission_lines(package, WIDTH, without).concat());
        if definition.is_private {
            text.push_str("private ");
        }
        text.push_str(&format!(
            "{} {} = ",
            definition.keyword.word(),
            definition.address.name
        ));
        let column = text.rsplit('\n').next().map_or(0, str::len);
        text.push_str(&match &definition.body {
            Body::Kind(call) => self.call(package, call, 0, column),
            Body::Code(code, _) => code.clone(),
            Body::Form(form) => {
                self.fields(package, &format!("{} ", form.form), &form.fields, 0, column)
            }
            Body::Forms(forms) => {
                let row = |(name, form): &(String, FormCall)| {
                    let key = format!("    {}: ", quoted(name));
                    let head = format!("{} ", form.form);
                    format!(
                        "{key}{}\n",
                        self.fields(package, &head, &form.fields, 4, key.len())
                    )
                };
                format!("{{\n{}}}", forms.iter().map(row).collect::<String>())
            }
            Body::Several(calls) => {
                let mut rows = String::from("{\n");
                for (name, call) in calls {
                    let head = format!("    {}: ", quoted(name));
                    rows.push_str(&head);
                    rows.push_str(&self.call(package, call, 4, head.len()));
                    rows.push('\n');
                }
                rows + "}"
            }
            Body::Each(files, field, call) => self.each(package, files, field, call, column),
        });
        text.push('\n');
        text
    }

    /// A kind for each of several files, by the files' stems: the file is the value of `field`, or
    /// the first of its values.
    fn each(
        &self,
        package: &str,
        files: &BTreeSet<String>,
        field: &'static str,
        call: &KindCall,
        column: usize,
    ) -> String {
        let mut call = call.clone();
        // Where a path is wanted from a folder on, this is the file's in its folder.
        let folder = files
            .first()
            .map_or("", |file| crate::tree::folder_of(below(file, package)));
        let own = FieldValue::Code(match field {
            "root" => format!("\"{folder}/{{source.name}}\""),
            _ => "source".to_owned(),
        });
        let beside = call.files(field);
        let value = match beside.is_empty() {
            true => own,
            false => FieldValue::List(vec![own, FieldValue::Files(beside)]),
        };
        call.fields.retain(|(name, _)| *name != field);
        call.fields.insert(0, (field, value));
        let over = match self.files(package, files, None).as_slice() {
            [one] if one.starts_with("glob(") => one.clone(),
            [one] => format!("glob({one})"),
            _ => format!("glob({})", quoted(&in_braces(files, package))),
        };
        format!(
            "{{each source in {over} give source.stem: {}}}",
            self.call(package, &call, 0, column + 60)
        )
    }

    /// A kind with its fields: on one line if that fits, else a field a line.
    fn call(&self, package: &str, call: &KindCall, indent: usize, column: usize) -> String {
        let head = format!("{}.{} ", call.kit.name(), call.kind);
        self.fields(package, &head, &call.fields, indent, column)
    }

    /// A head with fields behind it.
    fn fields(
        &self,
        package: &str,
        head: &str,
        fields: &[(&'static str, FieldValue)],
        indent: usize,
        column: usize,
    ) -> String {
        let head = head.to_owned();
        let flat: Vec<String> = fields
            .iter()
            .map(|(name, value)| format!("{name} = {}", self.value(package, value)))
            .collect();
        let line = format!("{{ {} }}", flat.join(", "));
        if flat.is_empty() {
            return head + "{}";
        }
        if column + head.len() + line.len() <= WIDTH && flat.len() <= 4 {
            return head + &line;
        }
        let space = " ".repeat(indent + 4);
        let mut text = head + "{\n";
        for ((name, value), flat) in fields.iter().zip(flat) {
            text.push_str(&space);
            if space.len() + flat.len() <= WIDTH {
                text.push_str(&flat);
            } else {
                text.push_str(&format!(
                    "{name} = {}",
                    self.long_value(package, value, indent + 4)
                ));
            }
            text.push('\n');
        }
        text + &" ".repeat(indent) + "}"
    }

    /// A value on one line.
    pub(crate) fn value(&self, package: &str, value: &FieldValue) -> String {
        match value {
            FieldValue::Text(text) => quoted(text),
            FieldValue::Bool(is) => is.to_string(),
            FieldValue::List(items) => match items.as_slice() {
                [one] if !matches!(one, FieldValue::List(_) | FieldValue::Text(_)) => {
                    self.value(package, one)
                }
                items => format!("[{}]", self.all(package, items).join(", ")),
            },
            FieldValue::Map(rows) => {
                let rows: Vec<String> = rows
                    .iter()
                    .map(|(key, value)| format!("{}: {}", quoted(key), self.value(package, value)))
                    .collect();
                format!("{{ {} }}", rows.join(", "))
            }
            FieldValue::Files(_) | FieldValue::Below(..) => {
                match self.files_of(package, value).as_slice() {
                    [one] => one.clone(),
                    many => format!("[{}]", many.join(", ")),
                }
            }
            FieldValue::Folder(folder) => quoted(&self.path(package, folder)),
            FieldValue::Place(..) => {
                let rows: Vec<String> = self.place_rows(package, value);
                format!(
                    "stage {{ path = \"place\", files = {{ {} }} }}",
                    rows.join(", ")
                )
                .replace("{  }", "{}")
            }
            FieldValue::Of(address) => self.reference(package, address),
            FieldValue::Pinned(kit, name) => format!("{}.pinned({})", kit.name(), quoted(name)),
            FieldValue::SystemLibrary(name) => {
                format!("system_library {{ names = {} }}", quoted(name))
            }
            FieldValue::Code(code) => code.clone(),
            FieldValue::Expression(expression) => {
                let part = |part: &ExpressionPart| match part {
                    ExpressionPart::Text(text) => text.clone(),
                    ExpressionPart::Of(address) => self.reference(package, address),
                };
                expression.parts.iter().map(part).collect()
            }
        }
    }

    /// A value over several lines, where it has parts.
    fn long_value(&self, package: &str, value: &FieldValue, indent: usize) -> String {
        let (open, parts, close) = match value {
            FieldValue::List(items) if items.len() > 1 => ('[', self.all(package, items), ']'),
            FieldValue::Files(_) | FieldValue::Below(..) => {
                ('[', self.files_of(package, value), ']')
            }
            FieldValue::Place(..) => {
                let (space, rows) = (" ".repeat(indent), self.place_rows(package, value));
                let rows: String = rows
                    .iter()
                    .map(|row| format!("{space}        {row}\n"))
                    .collect();
                return format!(
                    "stage {{\n{space}    path = \"place\"\n{space}    files = {{\n{rows}{space}    }}\n{space}}}"
                );
            }
            FieldValue::Map(rows) => {
                let row = |(key, value): &(String, FieldValue)| {
                    format!("{}: {}", quoted(key), self.value(package, value))
                };
                ('{', rows.iter().map(row).collect(), '}')
            }
            _ => return self.value(package, value),
        };
        if parts.len() == 1 {
            return self.value(package, value);
        }
        let space = " ".repeat(indent + 4);
        let end = if open == '[' { "," } else { "" };
        let lines: String = parts
            .iter()
            .map(|part| format!("{space}{part}{end}\n"))
            .collect();
        format!("{open}\n{lines}{}{close}", " ".repeat(indent))
    }

    /// The rows of a folder to write in: a folder there, and the files in it.
    fn place_rows(&self, package: &str, value: &FieldValue) -> Vec<String> {
        let FieldValue::Place(WritablePlace { root, files, empty }) = value else {
            return Vec::new();
        };
        let mut folders: BTreeMap<&str, BTreeSet<String>> = BTreeMap::new();
        for file in files {
            folders
                .entry(crate::tree::folder_of(below(file, root)))
                .or_default()
                .insert(file.clone());
        }
        let row = |(folder, files): (&str, BTreeSet<String>)| {
            let key = if folder.is_empty() {
                String::new()
            } else {
                format!("{folder}/")
            };
            format!(
                "{}: {}",
                quoted(&key),
                self.value(package, &FieldValue::Files(files))
            )
        };
        let mut rows: Vec<String> = folders.into_iter().map(row).collect();
        // A folder is there where a file is in it.
        let kept = |folder: &String| {
            format!(
                "{}: write {{ path = \"empty\", text = \"\" }}",
                quoted(&format!("{}/", below(folder, root)))
            )
        };
        rows.extend(empty.iter().map(kept));
        rows
    }

    fn all(&self, package: &str, items: &[FieldValue]) -> Vec<String> {
        let texts = |item: &FieldValue| match item {
            FieldValue::Files(_) | FieldValue::Below(..) => self.files_of(package, item),
            item => vec![self.value(package, item)],
        };
        items.iter().flat_map(texts).collect()
    }

    fn files_of(&self, package: &str, value: &FieldValue) -> Vec<String> {
        match value {
            FieldValue::Below(root, files) => {
                self.files(package, files, Some(below(root, package)))
            }
            FieldValue::Files(files) => self.files(package, files, None),
            _ => Vec::new(),
        }
    }

    /// Files as globs and paths.
    fn files(&self, package: &str, files: &BTreeSet<String>, root: Option<&str>) -> Vec<String> {
        let is_own = |file: &str| self.package_of(file) == package;
        let all: BTreeSet<&str> = self
            .tree
            .below(package)
            .filter(|file| is_own(file))
            .collect();
        let all: BTreeSet<&str> = all.into_iter().map(|file| below(file, package)).collect();
        let (own, others): (Vec<&String>, Vec<&String>) =
            files.iter().partition(|file| is_own(file));
        let own: BTreeSet<&str> = own.into_iter().map(|file| below(file, package)).collect();
        let mut texts: Vec<String> = covers(&all, &own, root).iter().map(glob).collect();
        texts.extend(
            others
                .into_iter()
                .map(|file| quoted(&self.path(package, file))),
        );
        texts
    }

    /// The package that a file belongs to: the deepest folder with definitions that it is in.
    fn package_of(&self, file: &str) -> &str {
        let around = self
            .packages
            .iter()
            .filter(|package| is_below(file, package));
        around
            .max_by_key(|package| package.len())
            .map_or("", String::as_str)
    }

    /// A path as a definition in a package names it.
    fn path(&self, package: &str, path: &str) -> String {
        if is_below(path, package) && (self.package_of(path) == package || path == package) {
            let inside = below(path, package);
            return if inside.is_empty() || path == package {
                ".".to_owned()
            } else {
                inside.to_owned()
            };
        }
        DefinitionAddress {
            package: path.to_owned(),
            name: String::new(),
        }
        .below(&format!("/{}", self.top))
        .replace("//", "/")
    }

    fn reference(&self, package: &str, address: &DefinitionAddress) -> String {
        if address.package == package {
            return address.name.clone();
        }
        // A target with its folder's name is meant by the folder alone.
        let has_folders_name =
            crate::tree::name_of(&address.package) == address.name && !address.package.is_empty();
        let address = match has_folders_name {
            true => &DefinitionAddress {
                package: crate::tree::folder_of(&address.package).to_owned(),
                name: address.name.clone(),
            },
            false => address,
        };
        let path = address.below(self.top);
        let is_plain = path.split('/').all(nubrik_lang::is_free_name);
        if is_plain {
            format!("&{path}")
        } else {
            format!("&{}", quoted(&path))
        }
    }
}

/// One glob for files of one folder with one ending.
fn in_braces(files: &BTreeSet<String>, package: &str) -> String {
    let first = files.first().map_or("", String::as_str);
    let folder = crate::tree::folder_of(below(first, package));
    let prefix = if folder.is_empty() {
        String::new()
    } else {
        format!("{folder}/")
    };
    let stems: Vec<&str> = files
        .iter()
        .map(|file| crate::tree::stem_of(file))
        .collect();
    format!(
        "{prefix}{{{}}}.{}",
        stems.join(","),
        crate::tree::ext_of(first)
    )
}

/// The line with which a package uses a kit.
pub(crate) fn use_line(kit: Kit) -> String {
    format!("use \"nub:{0}\" as {0}\n", kit.name())
}

/// Long lists that several definitions of a package have: a person would give each of them a name.
struct SharedLists {
    lists: Vec<(String, FieldValue)>,
}

/// The fields in which lists are shared.
const SHARED_FIELDS: [&str; 4] = ["needs", "flags", "link_flags", "include"];

impl SharedLists {
    fn of(definitions: &[&Definition]) -> SharedLists {
        const LONG: usize = 5;
        let taken: BTreeSet<&str> = definitions
            .iter()
            .map(|one| one.address.name.as_str())
            .collect();
        let mut shared = SharedLists { lists: Vec::new() };
        for field in SHARED_FIELDS {
            let mut counts: Vec<(&FieldValue, usize)> = Vec::new();
            for call in definitions.iter().flat_map(|one| one.body.calls()) {
                let Some(value @ FieldValue::List(items)) = call.field(field) else {
                    continue;
                };
                if items.len() < LONG {
                    continue;
                }
                match counts.iter_mut().find(|(known, _)| *known == value) {
                    Some((_, count)) => *count += 1,
                    None => counts.push((value, 1)),
                }
            }
            for (value, _) in counts.into_iter().filter(|(_, count)| *count > 1) {
                let wish = format!("common_{field}");
                let names =
                    std::iter::once(wish.clone()).chain((2..).map(|n| format!("{wish}_{n}")));
                let is_free = |name: &String| {
                    !taken.contains(name.as_str())
                        && shared.lists.iter().all(|(known, _)| known != name)
                };
                let name = names.into_iter().find(is_free).unwrap_or(wish);
                shared.lists.push((name, value.clone()));
            }
        }
        shared
    }

    /// A definition with the names of lists in their place.
    fn named_in(&self, definition: &Definition) -> Definition {
        let mut named = definition.clone();
        for call in named.body.calls_mut() {
            for (field, value) in &mut call.fields {
                let name = self
                    .lists
                    .iter()
                    .find(|(_, list)| list == value)
                    .map(|(name, _)| name);
                if let Some(name) = name.filter(|_| SHARED_FIELDS.contains(field)) {
                    *value = FieldValue::Code(name.clone());
                }
            }
        }
        named
    }
}

/// The kits that definitions use, sorted.
pub(crate) fn kits_of(definitions: &[&Definition]) -> BTreeSet<Kit> {
    let mut kits = BTreeSet::new();
    for definition in definitions {
        kits.extend(definition.body.calls().iter().map(|call| call.kit));
        kits.extend(definition.pins().into_iter().map(|(kit, _)| kit));
        if let Body::Code(code, _) = &definition.body {
            kits.extend(
                Kit::ALL
                    .into_iter()
                    .filter(|kit| code.contains(&format!("{}.", kit.name()))),
            );
        }
    }
    kits
}

/// The text as the formatter has it.
fn tidy(text: &str) -> String {
    let shared: Arc<str> = text.into();
    nubrik_syntax::format(TextId(0), &shared).unwrap_or_else(|_| text.to_owned())
}

fn glob(cover: &Cover) -> String {
    let pattern = quoted(&cover.pattern);
    match cover.except.as_slice() {
        [] => pattern,
        [one] => format!("glob({pattern}, except = {})", quoted(one)),
        many => {
            let names: Vec<String> = many.iter().map(|name| quoted(name)).collect();
            let flat = names.join(", ");
            // The formatter indents what is broken.
            let list = if flat.len() > WIDTH / 2 {
                format!("[\n{},\n]", names.join(",\n"))
            } else {
                format!("[{flat}]")
            };
            format!("glob({pattern}, except = {list})")
        }
    }
}

/// A text between quotes: as it is where escapes would be needed and that does.
pub(crate) fn quoted(text: &str) -> String {
    let needs_escapes = text.contains(['"', '\\', '{', '}']);
    if needs_escapes && !text.contains(['\'', '\n']) {
        return format!("'{text}'");
    }
    let mut quoted = String::from("\"");
    for c in text.chars() {
        match c {
            '"' => quoted.push_str("\\\""),
            '\\' => quoted.push_str("\\\\"),
            '\n' => quoted.push_str("\\n"),
            '{' => quoted.push_str("{{"),
            '}' => quoted.push_str("}}"),
            c => quoted.push(c),
        }
    }
    quoted + "\""
}
