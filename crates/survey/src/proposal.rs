//! What a survey proposes: definitions as data, so that they can be compared, changed and written.

use std::collections::{BTreeMap, BTreeSet};

use nubrik_pins::Registry;

use crate::causes::needs_definition;
pub use crate::values::{
    DefinitionAddress, Expression, ExpressionPart, FieldValue, FormCall, KindCall, Kit,
    WritablePlace,
};

/// What a definition says.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Body {
    /// A kind with fields.
    Kind(KindCall),
    /// The same kind for each of some files, under the name of the file without its ending; the
    /// file is in this field.
    Each(BTreeSet<String>, &'static str, KindCall),
    /// Several, by their names.
    Several(Vec<(String, KindCall)>),
    /// A form of the language.
    Form(FormCall),
    /// Several, by their names.
    Forms(Vec<(String, FormCall)>),
    /// An expression as it is written, and the files that it takes.
    Code(String, BTreeSet<String>),
}

impl Body {
    /// The kinds in it.
    pub fn calls(&self) -> Vec<&KindCall> {
        match self {
            Body::Kind(call) | Body::Each(_, _, call) => vec![call],
            Body::Several(calls) => calls.iter().map(|(_, call)| call).collect(),
            Body::Form(_) | Body::Forms(_) | Body::Code(..) => Vec::new(),
        }
    }

    /// The forms of the language in it.
    pub fn forms(&self) -> Vec<&FormCall> {
        match self {
            Body::Form(form) => vec![form],
            Body::Forms(forms) => forms.iter().map(|(_, form)| form).collect(),
            Body::Kind(_) | Body::Each(..) | Body::Several(_) | Body::Code(..) => Vec::new(),
        }
    }

    /// The same, to change them.
    pub fn forms_mut(&mut self) -> Vec<&mut FormCall> {
        match self {
            Body::Form(form) => vec![form],
            Body::Forms(forms) => forms.iter_mut().map(|(_, form)| form).collect(),
            Body::Kind(_) | Body::Each(..) | Body::Several(_) | Body::Code(..) => Vec::new(),
        }
    }

    /// Adds an item to a list of each of them. Says whether it is new in any.
    pub fn add_item(&mut self, field: &'static str, item: &FieldValue) -> bool {
        let mut is_new = false;
        for call in self.calls_mut() {
            is_new |= call.add_item(field, item.clone());
        }
        is_new
    }

    /// The same, to change them.
    pub fn calls_mut(&mut self) -> Vec<&mut KindCall> {
        match self {
            Body::Kind(call) | Body::Each(_, _, call) => vec![call],
            Body::Several(calls) => calls.iter_mut().map(|(_, call)| call).collect(),
            Body::Form(_) | Body::Forms(_) | Body::Code(..) => Vec::new(),
        }
    }
}

/// The word before a definition.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum Keyword {
    /// A value that others use.
    Let,
    /// Something that is made.
    Target,
    /// Something that passes or fails.
    Test,
    /// Something that is done.
    Job,
}

impl Keyword {
    /// The word.
    pub fn word(self) -> &'static str {
        match self {
            Keyword::Let => "let",
            Keyword::Target => "target",
            Keyword::Test => "test",
            Keyword::Job => "job",
        }
    }
}

/// A proposed definition.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Definition {
    /// Where it is, and its name.
    pub address: DefinitionAddress,
    /// The word before it.
    pub keyword: Keyword,
    /// Whether only its own package may use it.
    pub is_private: bool,
    /// What it is, in a sentence.
    pub documentation: String,
    /// Reasons that are not obvious, for whoever reads the definition.
    pub reasons: Vec<String>,
    /// Sources that it is made without, by their paths from the tree's top, with why.
    pub without: BTreeMap<String, String>,
    /// Those of its needs that only the folder suggests, and no source names.
    pub assumed: BTreeSet<DefinitionAddress>,
    /// What it says.
    pub body: Body,
}

impl Definition {
    /// A definition that everyone may use and that needs no explanation.
    pub fn new(
        keyword: Keyword,
        address: &DefinitionAddress,
        documentation: String,
        body: Body,
    ) -> Definition {
        Definition {
            address: address.clone(),
            keyword,
            is_private: false,
            documentation,
            reasons: Vec::new(),
            without: BTreeMap::new(),
            assumed: BTreeSet::new(),
            body,
        }
    }

    /// The same for its own package only.
    pub fn private(self) -> Definition {
        Definition {
            is_private: true,
            ..self
        }
    }

    /// The same with reasons.
    pub fn because(self, reasons: Vec<String>) -> Definition {
        Definition { reasons, ..self }
    }

    /// All reasons, with a sentence for each source that it is made without.
    pub fn all_reasons(&self) -> Vec<String> {
        let without = self.without.iter().map(|(source, why)| {
            format!(
                "Without {}: {why}.",
                crate::tree::below(source, &self.address.package)
            )
        });
        self.reasons.iter().cloned().chain(without).collect()
    }

    /// The definitions that it uses.
    pub fn needs(&self) -> BTreeSet<DefinitionAddress> {
        let mut needs = BTreeSet::new();
        self.walk(&mut |value| match value {
            FieldValue::Of(address) => drop(needs.insert(address.clone())),
            FieldValue::Expression(expression) => {
                let named = expression.parts.iter().filter_map(|part| match part {
                    ExpressionPart::Of(address) => Some(address.clone()),
                    ExpressionPart::Text(_) => None,
                });
                needs.extend(named);
            }
            _ => {}
        });
        needs
    }

    /// What it is, in a few words.
    pub fn in_words(&self) -> String {
        let of_kit =
            |call: &KindCall| format!("{} (kit {})", call.kind.replace('_', " "), call.kit.name());
        match &self.body {
            Body::Kind(call) => of_kit(call),
            Body::Each(files, _, call) => {
                format!("{}, for each of {} files", of_kit(call), files.len())
            }
            Body::Several(calls) => match calls.first() {
                Some((_, call)) => format!("{}, {} of them", of_kit(call), calls.len()),
                None => "nothing".to_owned(),
            },
            Body::Form(form) => format!("a {}", form.form),
            Body::Forms(forms) => match forms.first() {
                Some((_, form)) => format!("{}, {} of them", form.form, forms.len()),
                None => "nothing".to_owned(),
            },
            Body::Code(..) if self.keyword == Keyword::Let => "a value".to_owned(),
            Body::Code(..) => "a step".to_owned(),
        }
    }

    /// The packages of `pins.toml` that it uses.
    pub fn pins(&self) -> BTreeSet<(Kit, String)> {
        let mut pins = BTreeSet::new();
        self.walk(&mut |value| {
            if let FieldValue::Pinned(kit, name) = value {
                pins.insert((*kit, name.clone()));
            }
        });
        pins
    }

    /// The sources that it is for: those in fields of this name, else all files that it names.
    pub fn sources(&self) -> BTreeSet<String> {
        let mut sources: BTreeSet<String> = self
            .body
            .calls()
            .iter()
            .flat_map(|call| call.files("sources"))
            .collect();
        if let Body::Each(files, _, _) = &self.body {
            sources.extend(files.iter().cloned());
        }
        if sources.is_empty() {
            self.takes()
        } else {
            sources
        }
    }

    /// All files of the tree that it names.
    pub fn takes(&self) -> BTreeSet<String> {
        let mut takes = match &self.body {
            Body::Each(files, _, _) | Body::Code(_, files) => files.clone(),
            Body::Form(_) | Body::Forms(_) | Body::Kind(_) | Body::Several(_) => BTreeSet::new(),
        };
        takes.extend(
            self.body
                .forms()
                .into_iter()
                .flat_map(|form| form.takes.iter().cloned()),
        );
        self.walk(&mut |value| match value {
            FieldValue::Files(files) | FieldValue::Below(_, files) => {
                takes.extend(files.iter().cloned())
            }
            FieldValue::Place(place) => takes.extend(place.files.iter().cloned()),
            _ => {}
        });
        takes
    }

    fn walk<'d>(&'d self, call: &mut impl FnMut(&'d FieldValue)) {
        for kind in self.body.calls() {
            kind.fields.iter().for_each(|(_, value)| value.walk(call));
        }
        for form in self.body.forms() {
            form.fields.iter().for_each(|(_, value)| value.walk(call));
        }
    }
}

/// Other people's code that the sources use.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct WantedPin {
    /// Where it comes from.
    pub registry: Registry,
    /// Its name.
    pub name: String,
    /// Which versions do, as that registry writes it; empty for any.
    pub requirement: String,
    /// Features that are on, where the registry knows such.
    pub features: BTreeSet<String>,
    /// Whether features that are on by default are off.
    pub is_bare: bool,
    /// Whether only an import says so: it may be one that is tried, and done without.
    pub is_guess: bool,
    /// Who says that it is needed: a manifest or a source.
    pub wanted_by: String,
}

/// Something for which nothing is proposed.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Omission {
    /// A file, a folder, or a definition that would have been.
    pub what: String,
    /// Why.
    pub why: String,
    /// Sources that a definition would have taken.
    pub files: BTreeSet<String>,
}

/// A source that does not compile here, or cannot be linked, and that its library is made without.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct GivenUp {
    /// The library.
    pub address: DefinitionAddress,
    /// The source, by its path from the tree's top.
    pub source: String,
    /// Why.
    pub why: String,
}

/// Something that the sources do not say.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct SurveyQuestion {
    /// What answers are given under.
    pub id: String,
    /// The question.
    pub text: String,
    /// Possible answers; the first one is taken if nobody answers.
    pub choices: Vec<String>,
}

/// Answers by the ids of their questions.
pub type Answers = BTreeMap<String, String>;

/// All that a survey found.
#[derive(Clone, Default, Debug)]
pub struct Proposal {
    /// Definitions, by package and in the order in which they are written.
    pub definitions: Vec<Definition>,
    /// Other people's code.
    pub pins: Vec<WantedPin>,
    /// What is left out.
    pub left_out: Vec<Omission>,
    /// Sources that libraries are made without.
    pub given_up: Vec<GivenUp>,
    /// Sources that could be given up as well, but for which nothing could be linked.
    pub needed: BTreeSet<String>,
    /// What was not answered, with what is assumed.
    pub questions: Vec<SurveyQuestion>,
    /// How many sources there are of each language.
    pub sources: BTreeMap<Kit, usize>,
}

impl Proposal {
    /// The definition at an address.
    pub fn definition(&self, address: &DefinitionAddress) -> Option<&Definition> {
        self.definitions
            .iter()
            .find(|definition| definition.address == *address)
    }

    /// The same, to change it.
    pub fn definition_mut(&mut self, address: &DefinitionAddress) -> Option<&mut Definition> {
        self.definitions
            .iter_mut()
            .find(|definition| definition.address == *address)
    }

    /// The definitions of each package, in the order in which they are written.
    pub fn by_package(&self) -> BTreeMap<&str, Vec<&Definition>> {
        let mut packages: BTreeMap<&str, Vec<&Definition>> = BTreeMap::new();
        for definition in &self.definitions {
            packages
                .entry(&definition.address.package)
                .or_default()
                .push(definition);
        }
        packages
    }

    /// The packages with definitions, sorted.
    pub fn packages(&self) -> BTreeSet<&str> {
        self.definitions
            .iter()
            .map(|definition| definition.address.package.as_str())
            .collect()
    }

    /// Takes definitions away, and with them all that need them.
    pub fn leave_out(&mut self, address: &DefinitionAddress, why: &str) {
        let mut gone = vec![(address.clone(), why.to_owned())];
        while let Some((address, why)) = gone.pop() {
            if self.definition(&address).is_none() {
                continue;
            }
            let files = self
                .definition(&address)
                .map(Definition::sources)
                .unwrap_or_default();
            self.definitions
                .retain(|definition| definition.address != address);
            let what = address.below("");
            let users = self
                .definitions
                .iter()
                .filter(|user| user.needs().contains(&address));
            gone.extend(users.map(|user| (user.address.clone(), needs_definition(&what))));
            self.left_out.push(Omission { what, why, files });
        }
    }

    /// Takes a package out of the needs of all definitions.
    pub fn do_without(&mut self, kit: Kit, name: &str) {
        for call in self
            .definitions
            .iter_mut()
            .flat_map(|one| one.body.calls_mut())
        {
            let needs = match call.field("needs") {
                Some(FieldValue::List(items)) => items.clone(),
                Some(one) => vec![one.clone()],
                None => continue,
            };
            let gone = FieldValue::Pinned(kit, name.to_owned());
            call.set(
                "needs",
                FieldValue::List(needs.into_iter().filter(|need| *need != gone).collect()),
            );
        }
    }

    /// Takes those out of a definition of several that need a package, and says which. `None` where
    /// it is not of several, or where all of them need it.
    pub fn fewer(
        &mut self,
        address: &DefinitionAddress,
        kit: Kit,
        package: &str,
        why: &str,
    ) -> Option<Vec<String>> {
        let definition = self.definition_mut(address)?;
        let Body::Several(calls) = &mut definition.body else {
            return None;
        };
        let needs_it = |call: &KindCall| {
            let mut found = false;
            let wanted = FieldValue::Pinned(kit, package.to_owned());
            call.fields
                .iter()
                .for_each(|(_, value)| value.walk(&mut |value| found |= *value == wanted));
            found
        };
        let gone: Vec<String> = calls
            .iter()
            .filter(|(_, call)| needs_it(call))
            .map(|(name, _)| name.clone())
            .collect();
        if gone.is_empty() || gone.len() == calls.len() {
            return None;
        }
        calls.retain(|(name, _)| !gone.contains(name));
        definition
            .reasons
            .push(format!("Not here: {}, {why}.", gone.join(", ")));
        Some(gone)
    }

    /// The registries of the pins, each once.
    pub fn registries(&self) -> BTreeSet<Registry> {
        self.pins.iter().map(|pin| pin.registry).collect()
    }
}
