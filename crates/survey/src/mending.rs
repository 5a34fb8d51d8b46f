//! What a try showed, and what of a proposal that changes.

use std::collections::{BTreeMap, BTreeSet};

use nubrik_pins::Registry;
use regex::Regex;

use crate::MachineView;
use crate::causes::{lacks_header, lacks_package};
use crate::languages::{is_c_header, is_c_source, python_package_of};
use crate::places;
use crate::proposal::{
    Body, Definition, DefinitionAddress, FieldValue, GivenUp, Keyword, KindCall, Kit, Proposal,
    WantedPin,
};
use crate::tree::{SourceTree, below, name_of};
use crate::tried::{Mended, TryFailure};

/// Changes a proposal after a definition of it failed.
pub fn mend(
    tree: &SourceTree,
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    trouble: &TryFailure,
    machine: &dyn MachineView,
) -> Mended {
    let Some(definition) = proposal.definition(address) else {
        return Mended::Nothing;
    };
    let kits: BTreeSet<Kit> = definition
        .body
        .calls()
        .iter()
        .map(|call| call.kit)
        .collect();
    if let Some(how) = places::with_refused(tree, proposal, address, trouble)
        .or_else(|| places::with_place(proposal, address, trouble))
        .or_else(|| places::with_network(proposal, address, trouble))
    {
        return Mended::Changed(how);
    }
    for kit in kits {
        let mended = match kit {
            Kit::C | Kit::Fortran => compiled(tree, proposal, address, trouble, machine),
            Kit::Python => python(tree, proposal, address, trouble),
            Kit::Js => js(tree, proposal, address, trouble),
            Kit::Java => java(proposal, address, trouble),
            Kit::Documents | Kit::Go | Kit::Rust => Mended::Nothing,
        };
        if mended != Mended::Nothing {
            return mended;
        }
    }
    if let Some(how) = crate::arguments::wants_arguments(proposal, address, trouble) {
        return Mended::Changed(how);
    }
    let how = places::with_mentioned(tree, proposal, address, trouble)
        .or_else(|| places::beside_its_data(proposal, address, trouble));
    how.map_or(Mended::Nothing, Mended::Changed)
}

/// Words that the linker needs for functions.
const FUNCTIONS: [(&str, &str); 12] = [
    ("pthread_", "-pthread"),
    ("std::thread", "-pthread"),
    ("sem_", "-pthread"),
    ("dlopen", "-ldl"),
    ("dlsym", "-ldl"),
    ("clock_gettime", "-lrt"),
    ("shm_open", "-lrt"),
    ("crypt", "-lcrypt"),
    ("tgetent", "-ltinfo"),
    ("inflate", "-lz"),
    ("__atomic_", "-latomic"),
    ("omp_", "-fopenmp"),
];

const MATHS: [&str; 28] = [
    "acos", "asin", "atan", "atan2", "cbrt", "ceil", "cos", "cosh", "erf", "exp", "exp2", "expm1",
    "floor", "fmod", "hypot", "ldexp", "lgamma", "log", "log10", "log1p", "log2", "pow", "round",
    "sin", "sinh", "sqrt", "tan", "tanh",
];

fn compiled(
    tree: &SourceTree,
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    trouble: &TryFailure,
    machine: &dyn MachineView,
) -> Mended {
    let printed = &trouble.printed;
    if let Some(found) = captured(r"fatal error: ([^:\n]+): No such file", printed) {
        return missing_header(tree, proposal, address, trouble, &found, machine);
    }
    if let Some(how) = with_flag(tree, proposal, address, printed) {
        return Mended::Changed(how);
    }
    // What says itself that it is not for this machine, or is an example that is no whole program.
    let refuses = captured(r"error: #error ([^\n]+)", printed);
    let is_sample =
        |one: &Definition| one.keyword == Keyword::Target && matches!(one.body, Body::Each(..));
    if let Some(definition) = proposal.definition(address)
        && let Some(what) = refuses.clone().or_else(|| {
            captured(r"\berror: ([^\n]+)", printed)
                .filter(|_| is_sample(definition))
                .map(|text| format!("it does not compile: {text}"))
        })
        && let Some(mended) = without_source(
            proposal,
            address,
            trouble,
            what.trim().trim_end_matches('.'),
        )
    {
        return mended;
    }
    // Of several sources that define the same an archive gives one.
    if captured(r"(multiple definition of|duplicate symbol)", printed).is_some() {
        return match parted(proposal, address) {
            Mended::Nothing => without_variant(proposal, address, printed),
            mended => mended,
        };
    }
    match captured(r"undefined reference to [`']([^'`(]+)", printed) {
        Some(symbol) => match undefined(tree, proposal, address, &symbol) {
            Mended::Nothing => {
                source_that_cannot_be_linked(tree, proposal, address, printed, &symbol)
            }
            mended => mended,
        },
        None => Mended::Nothing,
    }
}

/// Adds a flag for what a compiler said that it lacks: a name that the build defines, or leave to
/// read older Fortran.
fn with_flag(
    tree: &SourceTree,
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    printed: &str,
) -> Option<String> {
    if let Some(name) = captured(
        r"error: [‘'`](\w+)[’'`] (?:undeclared|was not declared)",
        printed,
    ) && let Some(value) = crate::languages::version_value(tree, &name)
        .or_else(|| folder_value(proposal, address, &name))
        .or_else(|| crate::build_words::value_of(tree, &name))
    {
        let definition = proposal.definition_mut(address)?;
        let flag = FieldValue::Text(format!("-D{name}={value}"));
        return definition
            .body
            .add_item("flags", &flag)
            .then(|| format!("{name} is defined as {value}"));
    }
    let definition = proposal.definition_mut(address)?;
    if definition
        .body
        .calls()
        .iter()
        .any(|call| call.kit != Kit::Fortran)
    {
        return None;
    }
    if let Some((flag, why)) = old_fortran(printed) {
        let is_new = definition.body.add_item("flags", &FieldValue::text(flag));
        return is_new.then(|| format!("it is compiled with {flag}: {why}"));
    }
    let name = captured(
        r"Error: Symbol [‘'`](\w+)[’'`] at \(1\) has no IMPLICIT type",
        printed,
    )?
    .to_uppercase();
    let value = crate::build_words::given_value_of(tree, &name)
        .or_else(|| crate::languages::version_value(tree, &name))?;
    definition.body.add_item("flags", &FieldValue::text("-cpp"));
    let flag = FieldValue::Text(format!("-D{name}={value}"));
    definition
        .body
        .add_item("flags", &flag)
        .then(|| format!("{name} is defined as {value}"))
}

/// The flag with which a compiler takes what it refused as older Fortran, and why.
fn old_fortran(printed: &str) -> Option<(&'static str, &'static str)> {
    const LEGACY: &str = "-std=legacy";
    [
        (
            r"Error: (?:Type|Rank) mismatch (?:in|between)",
            LEGACY,
            "calls of one procedure differ in their arguments",
        ),
        (
            r"Error: (?:Fortran 2018 deleted feature|Legacy Extension|GNU Extension|BOZ literal)",
            LEGACY,
            "it has older forms",
        ),
        (
            r"Error: Line truncated",
            "-ffree-line-length-none",
            "it has long lines",
        ),
    ]
    .into_iter()
    .find(|(said, ..)| captured(said, printed).is_some())
    .map(|(_, flag, why)| (flag, why))
}

/// Links what has a function that the linker did not find.
fn undefined(
    tree: &SourceTree,
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    symbol: &str,
) -> Mended {
    let is_math = MATHS.contains(&symbol.trim_end_matches(['f', 'l'])) || MATHS.contains(&symbol);
    let of_function = || {
        FUNCTIONS
            .iter()
            .find(|(start, _)| symbol.starts_with(start))
    };
    let word = if is_math {
        Some("-lm")
    } else {
        of_function().map(|(_, word)| *word)
    };
    let Some(word) = word else {
        return missing_function(tree, proposal, address, symbol);
    };
    let Some(definition) = proposal.definition_mut(address) else {
        return Mended::Nothing;
    };
    match definition
        .body
        .add_item("link_flags", &FieldValue::text(word))
    {
        true => Mended::Changed(format!("it is linked with {word}, for {symbol}")),
        false => Mended::Nothing,
    }
}

/// What a name represents by which tests find their own folder.
fn folder_value(proposal: &Proposal, address: &DefinitionAddress, name: &str) -> Option<String> {
    let plain = name.replace('_', "").to_uppercase();
    let names = [
        "SRCDIR",
        "TESTDIR",
        "TESTSDIR",
        "DATADIR",
        "TESTDATADIR",
        "TESTSRCDIR",
        "SOURCEDIR",
        "TESTSOURCEDIR",
    ];
    let sources = proposal.definition(address)?.takes();
    let folder =
        crate::tree::folder_of(sources.iter().find(|file| file.contains("test"))?).to_owned();
    names
        .contains(&plain.as_str())
        .then(|| format!("\"{folder}\""))
}

/// A header that a source includes was not found: another folder is searched for it, or the source
/// is left out.
fn missing_header(
    tree: &SourceTree,
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    trouble: &TryFailure,
    header: &str,
    machine: &dyn MachineView,
) -> Mended {
    let is_there = machine.has_file(&format!("/usr/include/{header}"));
    let Some(definition) = proposal.definition_mut(address) else {
        return Mended::Nothing;
    };
    let fits = |file: &&String| {
        file.strip_suffix(header)
            .is_some_and(|before| before.is_empty() || before.ends_with('/'))
    };
    let here = tree.files().iter().filter(fits).max_by_key(|file| {
        file.bytes()
            .zip(address.package.bytes())
            .take_while(|(a, b)| a == b)
            .count()
    });
    if let Some(file) = here.filter(|_| !is_there) {
        let folder = file
            .strip_suffix(header)
            .unwrap_or_default()
            .trim_end_matches('/')
            .to_owned();
        let mut is_new = false;
        for call in definition.body.calls_mut() {
            is_new |= call.add_item("include", FieldValue::Folder(folder.clone()));
            is_new |= call.add_files("reads", [file.clone()]);
        }
        return if is_new {
            Mended::Changed(format!("{header} is searched in {folder}"))
        } else {
            Mended::Nothing
        };
    }
    let why = lacks_header(header);
    without_source(proposal, address, trouble, &why).unwrap_or(Mended::Omission(why))
}

/// Leaves a source out of a library with others, or of what is made of each of several.
fn without_source(
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    trouble: &TryFailure,
    why: &str,
) -> Option<Mended> {
    let at = proposal
        .definitions
        .iter()
        .position(|one| one.address == *address)?;
    let definition = &mut proposal.definitions[at];
    let needed = &proposal.needed;
    let culprit = |files: &BTreeSet<String>| {
        let named = files
            .iter()
            .find(|file| trouble.inputs.contains(*file) && trouble.printed.contains(name_of(file)));
        named
            .or_else(|| files.iter().find(|file| trouble.inputs.contains(*file)))
            .cloned()
    };
    let mut gone = None;
    for call in definition
        .body
        .calls_mut()
        .into_iter()
        .filter(|call| call.kind == "library")
    {
        let mut files = call.files("sources");
        let is_free = |source: &String| files.len() > 1 && !needed.contains(source);
        let Some(source) = culprit(&files).filter(is_free) else {
            continue;
        };
        files.remove(&source);
        call.set_files("sources", files);
        gone = Some(source);
    }
    if let Body::Each(files, _, _) = &mut definition.body
        && let Some(source) = culprit(files).filter(|_| files.len() > 1)
    {
        files.remove(&source);
        gone = Some(source);
    }
    let gone = GivenUp {
        address: address.clone(),
        source: gone?,
        why: why.to_owned(),
    };
    definition
        .without
        .insert(gone.source.clone(), gone.why.clone());
    let how = format!("without {}: {why}", gone.source);
    proposal.given_up.push(gone);
    Some(Mended::Changed(how))
}

/// Whether a C or C++ compiler takes a file, or a part of one.
fn is_compiled(file: &str) -> bool {
    let is_part = matches!(crate::tree::ext_of(file), "ipp" | "S" | "s");
    is_part || is_c_source(file) || is_c_header(file)
}

/// A source of a library refers to what nothing has, in the tree or in what is linked: whoever
/// links it fails, so that it is left out.
/// What needs it fails as before, and by its own name.
fn source_that_cannot_be_linked(
    tree: &SourceTree,
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    printed: &str,
    symbol: &str,
) -> Mended {
    let said = format!(
        r"([^\s:(]+\.\w+):(?:\d+|\([^)]*\)): undefined reference to [`']{}",
        regex::escape(symbol)
    );
    let Some(source) = captured(&said, printed) else {
        return Mended::Nothing;
    };
    let bare = symbol
        .split('(')
        .next()
        .unwrap_or(symbol)
        .rsplit("::")
        .next()
        .unwrap_or(symbol);
    let Ok(definition) = Regex::new(&format!(
        r"(?m)\b{}\s*(\([^;]*$|[=;\[])",
        regex::escape(bare)
    )) else {
        return Mended::Nothing;
    };
    let is_in = |file: &str| {
        tree.text(file)
            .is_some_and(|text| definition.is_match(&text))
    };
    let sources = || {
        tree.files()
            .iter()
            .filter(|file| name_of(file) != name_of(&source))
    };
    if sources()
        .filter(|file| is_compiled(file))
        .any(|file| is_in(file))
    {
        return Mended::Nothing;
    }
    let why = format!("it refers to {symbol}, which is nowhere");
    without_linked(proposal, address, &["library"], name_of(&source), &why)
}

/// Of two sources that define the same, and are named as variants of one another, such as
/// `tide_old.c` or `tide2.c` beside `tide.c`, one is left out. Of an archive that is the first: the
/// other one was linked for something that the first one lacks.
/// Else it is the one with the longer name.
fn without_variant(proposal: &mut Proposal, address: &DefinitionAddress, printed: &str) -> Mended {
    let place = r"([^\s:(/]+\.\w+):(?:\d+|\([^)]*\))";
    let said = format!(
        r"{place}: multiple definition of [^;\n]+;.*?(\.a\([^)]*\):)?{place}: first defined here"
    );
    let Ok(said) = Regex::new(&said) else {
        return Mended::Nothing;
    };
    let stem = |file: &str| crate::tree::stem_of(file).to_owned();
    let plain = |stem: &str| {
        stem.trim_end_matches(|c: char| c.is_ascii_digit())
            .to_owned()
    };
    let are_alike = |a: &str, b: &str| a.starts_with(b) || b.starts_with(a) || plain(a) == plain(b);
    for found in said.captures_iter(printed) {
        let (second, first, is_in_archive) = (&found[1], &found[3], found.get(2).is_some());
        let (variant, other) = match (stem(second), stem(first)) {
            (a, b) if a == b || !are_alike(&a, &b) => continue,
            (a, b) if is_in_archive || a.len() < b.len() => (first, second),
            _ => (second, first),
        };
        let why = format!("it defines the same as {other}");
        let mended = without_linked(proposal, address, &["library", "program"], variant, &why);
        if mended != Mended::Nothing {
            return mended;
        }
    }
    Mended::Nothing
}

/// Leaves the source of this name out of the first definition of one of these kinds that has it:
/// the one that failed, or one that it needs.
fn without_linked(
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    kinds: &[&str],
    source: &str,
    why: &str,
) -> Mended {
    let needed = proposal.needed.clone();
    let mut queue: Vec<DefinitionAddress> = vec![address.clone()];
    let mut seen = BTreeSet::new();
    while let Some(next) = queue.pop() {
        let Some(definition) = proposal
            .definition_mut(&next)
            .filter(|_| seen.insert(next.clone()))
        else {
            continue;
        };
        queue.extend(definition.needs());
        for call in definition
            .body
            .calls_mut()
            .into_iter()
            .filter(|call| kinds.contains(&call.kind))
        {
            let mut files = call.files("sources");
            let found: Vec<String> = files
                .iter()
                .filter(|file| name_of(file) == source)
                .cloned()
                .collect();
            if let [found] = &*found
                && files.len() > 1
                && !needed.contains(found)
            {
                files.remove(found);
                call.set_files("sources", files);
                let gone = GivenUp {
                    address: next,
                    source: found.clone(),
                    why: why.to_owned(),
                };
                definition
                    .without
                    .insert(gone.source.clone(), gone.why.clone());
                proposal.given_up.push(gone);
                return Mended::Changed(format!("without {found}: {why}"));
            }
        }
    }
    Mended::Nothing
}

/// A function that is nowhere: another library of the tree may have it.
fn missing_function(
    tree: &SourceTree,
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    symbol: &str,
) -> Mended {
    let name = symbol.rsplit("::").next().unwrap_or(symbol);
    let Ok(expression) = Regex::new(&format!(
        r"(?m)^[\w\s\*]*\b{}\s*\([^;]*$",
        regex::escape(name)
    )) else {
        return Mended::Nothing;
    };
    let needs_us = |other: &DefinitionAddress| {
        let mut queue = vec![other.clone()];
        let mut seen = BTreeSet::new();
        while let Some(next) = queue.pop() {
            if next == *address {
                return true;
            }
            if seen.insert(next.clone()) {
                queue.extend(
                    proposal
                        .definition(&next)
                        .into_iter()
                        .flat_map(|one| one.needs()),
                );
            }
        }
        false
    };
    let has = |files: BTreeSet<String>| {
        files
            .iter()
            .filter_map(|file| tree.text(file))
            .any(|text| expression.is_match(&text))
    };
    let owner = proposal.definitions.iter().find(|other| {
        let calls = other.body.calls();
        let libraries = calls
            .iter()
            .filter(|call| call.kit == Kit::C && call.kind == "library");
        libraries.into_iter().any(|call| has(call.files("sources"))) && !needs_us(&other.address)
    });
    let Some(owner) = owner.map(|owner| owner.address.clone()) else {
        return source_taken_back(tree, proposal, address, symbol, &expression);
    };
    let Some(definition) = proposal.definition_mut(address) else {
        return Mended::Nothing;
    };
    let is_new = definition
        .body
        .add_item("needs", &FieldValue::Of(owner.clone()));
    if is_new {
        Mended::Changed(format!("it needs {}, which has {symbol}", owner.below("")))
    } else {
        Mended::Nothing
    }
}

/// A function that is nowhere in what is proposed: a source of the tree that was taken for
/// something else may have it. It joins the library beside whose sources it lies, or the definition
/// that failed.
fn source_taken_back(
    tree: &SourceTree,
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    symbol: &str,
    expression: &Regex,
) -> Mended {
    let definitions = proposal.definitions.iter();
    let taken: BTreeSet<String> = definitions.flat_map(Definition::sources).collect();
    let left_out = proposal.left_out.iter().map(|left| left.what.as_str());
    let left_out: BTreeSet<&str> = left_out.collect();
    let is_given_up = |file: &str| proposal.given_up.iter().any(|one| one.source == file);
    let Ok(program) = Regex::new(r"\bmain\s*\(") else {
        return Mended::Nothing;
    };
    let has = |file: &&String| {
        is_c_source(file)
            && !taken.contains(*file)
            && !left_out.contains(file.as_str())
            && tree
                .text(file)
                .is_some_and(|text| expression.is_match(&text) && !program.is_match(&text))
            && !is_given_up(file)
    };
    let found: Vec<&String> = tree.files().iter().filter(has).collect();
    let [source] = &*found else {
        return Mended::Nothing;
    };
    let folder = crate::tree::folder_of(source);
    let is_beside = |one: &Definition| {
        let calls = one.body.calls();
        let mut libraries = calls
            .iter()
            .filter(|call| call.kit == Kit::C && call.kind == "library");
        libraries.any(|call| {
            call.files("sources")
                .iter()
                .any(|file| crate::tree::folder_of(file) == folder)
        })
    };
    let definition = proposal.definition(address);
    let needs = definition.map(Definition::needs).unwrap_or_default();
    let beside = needs
        .into_iter()
        .find(|need| proposal.definition(need).is_some_and(is_beside));
    let Some(definition) = proposal.definition_mut(beside.as_ref().unwrap_or(address)) else {
        return Mended::Nothing;
    };
    let Some(call) = definition
        .body
        .calls_mut()
        .into_iter()
        .find(|call| call.kit == Kit::C)
    else {
        return Mended::Nothing;
    };
    let mut sources = call.files("sources");
    sources.insert((*source).clone());
    call.set_files("sources", sources);
    Mended::Changed(format!("with {source}, which has {symbol}"))
}

/// Gives tests a module that lies in the tree beside what they have. `None` where there is no such
/// module.
fn own_module(
    tree: &SourceTree,
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    name: &str,
) -> Option<Mended> {
    let package = &address.package;
    let is_it = |file: &&str| {
        let inside = below(file, package);
        let in_folder = crate::tree::folder_of(inside)
            .split('/')
            .any(|part| part == name);
        crate::tree::ext_of(file) == "py" && (in_folder || crate::tree::stem_of(file) == name)
    };
    let files: BTreeSet<String> = tree
        .below(package)
        .filter(is_it)
        .map(str::to_owned)
        .collect();
    let first = files.first()?.clone();
    let definition = proposal.definition_mut(address)?;
    let mut is_new = false;
    for call in definition.body.calls_mut() {
        is_new |= call.add_files("helpers", files.iter().cloned());
    }
    Some(if is_new {
        Mended::Changed(format!("it imports {first}"))
    } else {
        Mended::Nothing
    })
}

/// Libraries that are linked as a whole are archives again.
fn parted(proposal: &mut Proposal, address: &DefinitionAddress) -> Mended {
    let needs: Vec<DefinitionAddress> = proposal
        .definition(address)
        .into_iter()
        .flat_map(|one| one.needs())
        .collect();
    let mut changed = Vec::new();
    for need in needs {
        let Some(definition) = proposal.definition_mut(&need) else {
            continue;
        };
        for call in definition.body.calls_mut() {
            if call.kit == Kit::C && call.field("whole") == Some(&FieldValue::Bool(true)) {
                call.set("whole", FieldValue::List(Vec::new()));
                changed.push(need.below(""));
            }
        }
    }
    match changed.is_empty() {
        true => Mended::Nothing,
        false => Mended::Changed(format!(
            "of {} only what is referred to is linked",
            changed.join(", ")
        )),
    }
}

/// Libraries in C become part of a shared object: they are compiled for that.
fn position_independent(proposal: &mut Proposal, address: &DefinitionAddress) -> Mended {
    let mut queue: Vec<DefinitionAddress> = proposal
        .definition(address)
        .into_iter()
        .flat_map(|one| one.needs())
        .collect();
    let mut seen = BTreeSet::new();
    let mut changed = Vec::new();
    while let Some(next) = queue.pop() {
        let Some(definition) = proposal
            .definition_mut(&next)
            .filter(|_| seen.insert(next.clone()))
        else {
            continue;
        };
        queue.extend(definition.needs());
        for call in definition.body.calls_mut() {
            if call.kit == Kit::C
                && call.kind == "library"
                && call.field("position_independent").is_none()
            {
                call.set("position_independent", FieldValue::Bool(true));
                changed.push(next.below(""));
            }
        }
    }
    match changed.is_empty() {
        true => Mended::Nothing,
        false => Mended::Changed(format!(
            "{} can become part of a shared object",
            changed.join(", ")
        )),
    }
}

/// A module in C includes a header of the tree: of a library, which is linked then, or one for
/// itself.
fn extension_header(
    tree: &SourceTree,
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    header: &str,
) -> Mended {
    let fits = |file: &&String| {
        file.strip_suffix(header)
            .is_some_and(|before| before.is_empty() || before.ends_with('/'))
    };
    let Some(file) = tree.files().iter().find(fits) else {
        return Mended::Nothing;
    };
    let has_it = |one: &&Definition| {
        let calls = one.body.calls();
        calls.iter().any(|call| {
            call.kit == Kit::C && call.kind == "library" && call.files("headers").contains(file)
        })
    };
    let library = proposal
        .definitions
        .iter()
        .find(has_it)
        .map(|one| one.address.clone());
    let Some(definition) = proposal.definition_mut(address) else {
        return Mended::Nothing;
    };
    let is_new = match &library {
        Some(library) => definition
            .body
            .add_item("needs", &FieldValue::Of(library.clone())),
        None => {
            let folder = file
                .strip_suffix(header)
                .unwrap_or_default()
                .trim_end_matches('/');
            let flag = FieldValue::Text(format!(
                "-I{}",
                if folder.is_empty() { "." } else { folder }
            ));
            let mut is_new = definition.body.add_item("flags", &flag);
            for call in definition.body.calls_mut() {
                is_new |= call.add_files("headers", [file.clone()]);
            }
            is_new
        }
    };
    match (is_new, library) {
        (false, _) => Mended::Nothing,
        (true, Some(library)) => Mended::Changed(format!(
            "it needs {}, which has {header}",
            library.below("")
        )),
        (true, None) => Mended::Changed(format!("it includes {file}")),
    }
}

/// Plugins by the names of what tests take from them.
const FIXTURES: [(&str, &str); 8] = [
    ("mocker", "pytest-mock"),
    ("benchmark", "pytest-benchmark"),
    ("httpserver", "pytest-httpserver"),
    ("httpbin", "pytest-httpbin"),
    ("subtests", "pytest-subtests"),
    ("snapshot", "syrupy"),
    ("freezer", "pytest-freezer"),
    ("datadir", "pytest-datadir"),
];

/// Plugins by the words that settings of pytest give to them.
const OPTIONS: [(&str, &str); 6] = [
    ("--asyncio", "pytest-asyncio"),
    ("--benchmark", "pytest-benchmark"),
    ("--cov", "pytest-cov"),
    ("--mypy", "pytest-mypy"),
    ("--timeout", "pytest-timeout"),
    ("-n", "pytest-xdist"),
];

fn python(
    tree: &SourceTree,
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    trouble: &TryFailure,
) -> Mended {
    let printed = &trouble.printed;
    if printed.contains("recompile with -fPIC") {
        return position_independent(proposal, address);
    }
    if let Some(header) = captured(r"fatal error: ([^:\n]+): No such file", printed) {
        return extension_header(tree, proposal, address, &header);
    }
    let module = captured(r"No module named '([\w.]+)'", printed)
        .map(|name| name.split('.').next().unwrap_or(&name).to_owned());
    let fixture = captured(r"fixture '(\w+)' not found", printed).and_then(|name| {
        FIXTURES
            .iter()
            .find(|(known, _)| *known == name)
            .map(|(_, package)| (*package).to_owned())
    });
    let option = captured(r"unrecognized arguments: (--?[a-z]+)", printed).and_then(|word| {
        OPTIONS
            .iter()
            .find(|(known, _)| *known == word)
            .map(|(_, package)| (*package).to_owned())
    });
    let is_async = printed
        .contains("async def functions are not natively supported")
        .then(|| "pytest-asyncio".to_owned());
    // A module of the tree is never one of a registry, whatever has its name there.
    if let Some(own) = module
        .as_ref()
        .and_then(|name| own_module(tree, proposal, address, name))
    {
        return own;
    }
    let Some(package) = module
        .as_deref()
        .map(python_package_of)
        .or(fixture)
        .or(option)
        .or(is_async)
    else {
        return Mended::Nothing;
    };
    pinned(proposal, address, Registry::Python, Kit::Python, &package)
}

/// Why a script cannot run in a folder that lacks files of its project, as an archive of a package
/// does.
fn lacks_files(tree: &SourceTree, printed: &str) -> Option<String> {
    let own = |path: String| (!path.contains("node_modules/") && !tree.has(&path)).then_some(path);
    let runs = || captured(r"Cannot find module '/[^']*/work/([^']+)'", printed).and_then(own);
    let reads = || captured(r"Cannot read \S+ file: \S*/work/(\S+)", printed).and_then(own);
    let finds_none = || {
        captured(
            r"(?:No test files found|No files matching the pattern)[^'\x22\n]*['\x22]([^'\x22\n]+)",
            printed,
        )
    };
    runs()
        .map(|path| format!("it runs {path}, which is not here"))
        .or_else(|| reads().map(|path| format!("it reads {path}, which is not here")))
        .or_else(|| {
            finds_none().map(|pattern| format!("it looks for {pattern}, and no such file is here"))
        })
}

fn js(
    tree: &SourceTree,
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    trouble: &TryFailure,
) -> Mended {
    if trouble.is_too_long {
        return crate::scripts::endless(proposal, address);
    }
    let printed = &trouble.printed;
    let is_script = |one: &Definition| {
        one.body
            .calls()
            .iter()
            .any(|call| call.kind.starts_with("script"))
    };
    if let Some(why) =
        lacks_files(tree, printed).filter(|_| proposal.definition(address).is_some_and(is_script))
    {
        return Mended::Omission(why);
    }
    let named = captured(r"Cannot find (?:module|package) '([^'./][^']*)'", printed)
        .or_else(|| {
            captured(r"Cannot find type definition file for '([^']+)'", printed)
                .map(|name| format!("@types/{name}"))
        })
        .or_else(|| {
            captured(
                r"(?:^|\n)(?:sh: )?(?:\d+: )?([\w@/.-]+): not found",
                printed,
            )
        });
    let Some(named) = named.filter(|name| !name.starts_with("node:")) else {
        return Mended::Nothing;
    };
    let parts = if named.starts_with('@') { 2 } else { 1 };
    let package = named.split('/').take(parts).collect::<Vec<_>>().join("/");
    let package = if package == "tsc" {
        "typescript".to_owned()
    } else {
        package
    };
    pinned(proposal, address, Registry::Js, Kit::Js, &package)
}

/// Words that became a part of Java, and the last release before each.
const NEW_WORDS: [(&str, &str); 6] = [
    ("_", "8"),
    ("var", "9"),
    ("yield", "13"),
    ("record", "15"),
    ("sealed", "16"),
    ("permits", "16"),
];

/// Sources of tests that use packages which are nowhere are left out: benchmarks against others
/// mostly. The other tests do without them.
fn java(proposal: &mut Proposal, address: &DefinitionAddress, trouble: &TryFailure) -> Mended {
    if let Some(how) = with_older_release(proposal, address, &trouble.printed) {
        return Mended::Changed(how);
    }
    let Ok(pattern) = Regex::new(
        r"(?m)^(\S+\.java):\d+: error: (?:package (\S+) does not exist|cannot find symbol)",
    ) else {
        return Mended::Nothing;
    };
    let blamed = blamed_sources(&pattern, &trouble.printed);
    let Some(definition) = proposal.definition_mut(address) else {
        return Mended::Nothing;
    };
    let mut gone: Vec<(String, String)> = Vec::new();
    for call in definition
        .body
        .calls_mut()
        .into_iter()
        .filter(|call| call.kind == "tests")
    {
        let all = call.files("sources");
        let without: BTreeMap<&String, &Option<String>> = blamed
            .iter()
            .filter(|(file, _)| all.contains(*file))
            .collect();
        // Where most of them are wrong, something else is.
        if without.is_empty() || without.len() * 2 > all.len() {
            continue;
        }
        for field in ["sources", "classes"] {
            let mut kept = call.files(field);
            kept.retain(|file| !without.contains_key(file));
            call.set_files(field, kept);
        }
        gone.extend(without.into_iter().map(|(file, package)| {
            let package = package.as_deref().unwrap_or("something");
            (file.clone(), package.to_owned())
        }));
    }
    let Some((first, package)) = gone.first().cloned() else {
        return Mended::Nothing;
    };
    for (file, package) in &gone {
        definition
            .without
            .insert(file.clone(), lacks_package(package));
    }
    let more = match gone.len() - 1 {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    Mended::Changed(format!(
        "without {first}{more}: {}",
        lacks_package(&package)
    ))
}

/// The sources that a compiler complains of, each with the package that it lacks, if that is said.
fn blamed_sources(pattern: &Regex, printed: &str) -> BTreeMap<String, Option<String>> {
    let mut blamed: BTreeMap<String, Option<String>> = BTreeMap::new();
    for found in pattern.captures_iter(printed) {
        let entry = blamed.entry(found[1].to_owned()).or_default();
        let package = || found.get(2).map(|package| package.as_str().to_owned());
        *entry = entry.take().or_else(package);
    }
    blamed
}

/// Sources that have a newer word as a name are for an older Java.
fn with_older_release(
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    printed: &str,
) -> Option<String> {
    let new_word = captured(
        r"error: (?:invalid use of a restricted identifier|as of release \d+,) '(\w+)'",
        printed,
    )?;
    let (word, release) = NEW_WORDS.iter().find(|(new, _)| *new == new_word)?;
    let definition = proposal.definition_mut(address)?;
    let calls = definition.body.calls_mut().into_iter();
    let mut open: Vec<&mut KindCall> = calls
        .filter(|call| call.field("release").is_none())
        .collect();
    for call in &mut open {
        call.set("release", FieldValue::text(*release));
    }
    (!open.is_empty()).then(|| format!("it is for Java {release}, where `{word}` was a name"))
}

/// Pins a package that was missed, and lets a definition use it.
fn pinned(
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    registry: Registry,
    kit: Kit,
    package: &str,
) -> Mended {
    let Some(definition) = proposal.definition_mut(address) else {
        return Mended::Nothing;
    };
    let value = FieldValue::Pinned(kit, package.to_owned());
    let is_new = definition.body.add_item("needs", &value);
    if !is_new {
        return Mended::Nothing;
    }
    if package == "pytest-cov" {
        // Settings name its options, so it must be there; what it writes lies among the sources.
        definition
            .body
            .add_item("args", &FieldValue::text("--no-cov"));
    }
    if !proposal
        .pins
        .iter()
        .any(|pin| pin.registry == registry && pin.name == package)
    {
        proposal.pins.push(WantedPin {
            registry,
            name: package.to_owned(),
            requirement: String::new(),
            features: BTreeSet::new(),
            is_bare: false,
            is_guess: true,
            wanted_by: format!("a try of {}", address.below("")),
        });
    }
    Mended::Changed(format!("it needs {registry} {package}"))
}

fn captured(pattern: &str, text: &str) -> Option<String> {
    let found = Regex::new(pattern).ok()?.captures(text)?;
    found
        .get(1)
        .or(found.get(0))
        .map(|part| part.as_str().to_owned())
}
