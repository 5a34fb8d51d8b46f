//! The meaning of Nub: names, types and evaluation, from definitions to a graph of steps.
//!
//! The outside is asked only through [`World`]. Evaluation always ends: values are evaluated on
//! demand, once, nothing may need itself, and functions and kinds may not lead back to themselves.
//!
//! ```
//! // What a definition file declares can be known without evaluating it.
//! let text = "let flags = [\"-O2\"]\ntarget tide = write { path = \"t\", text = \"ebb\" }\n";
//! assert_eq!(nubrik_lang::declared_names(text), ["flags", "tide"]);
//! ```

mod address;
pub mod builtins;
mod cycles;
mod data;
mod eval;
mod examples;
mod globs;
mod hir;
mod kept;
mod lints;
mod lower;
pub mod meanings;
mod modules;
mod output;
mod parallel;
mod renamed;
mod replaced;
mod reported;
mod sample_bytes;
pub mod topics;
mod trail;
mod types;
mod value;
mod world;

pub use address::{AddressPattern, PatternProblem, Wanted};
pub use eval::{
    Evaluation, Evaluator, OptionInfo, Setting, SettingValue, ToldCall, ToldField, ToldName,
    write_json_text,
};
pub use examples::{ExampleReport, try_examples};
pub use parallel::evaluate_below;
pub use trail::{REQUEST, Trail, Unit, WatchedWorld};
pub use world::{
    Answer, AnswerText, DefinitionText, EntryKind, KitPlace, LibraryAnswer, LibraryRequest,
    LibrarySearch, Listing, NO_IMAGE, NoAnswer, NotText, SampleCommand, SampleProgram,
    SampleRequest, StepRoots, ToolAnswer, ToolRequest, ToolSearch, World,
};

pub use nubrik_source::TARGETS_FILE;

/// Where kits in archives are unpacked, from the workspace's root.
pub const KITS_FOLDER: &str = ".nubrik/kits";

/// The file that marks the root of a workspace. What lies in and below a folder that has one, below
/// this workspace's root, belongs to another workspace.
pub const WORKSPACE_FILE: &str = "nubrik.toml";

/// The names that a definition file's text declares.
pub fn declared_names(text: &str) -> Vec<String> {
    let file = nubrik_source::Sources::default().add("", text.into());
    let parsed = nubrik_syntax::parse(file, &text.into());
    let location = lower::Location {
        file,
        folder: None,
        is_package: true,
        title: "".into(),
    };
    let (module, _) = lower::lower(&parsed.tree, location);
    module
        .decls
        .iter()
        .map(|decl| decl.name.text.to_string())
        .collect()
}

/// A target, test, job or service as it is declared.
pub struct DeclaredTarget {
    /// Its name.
    pub name: String,
    /// What it is: `target`, `test`, `job` or `service`.
    pub word: &'static str,
    /// Its documentation.
    pub documentation: String,
}

/// What a definition file's text declares that people ask for.
pub fn declared_targets(text: &str) -> Vec<DeclaredTarget> {
    let file = nubrik_source::Sources::default().add("", text.into());
    let parsed = nubrik_syntax::parse(file, &text.into());
    let location = lower::Location {
        file,
        folder: None,
        is_package: true,
        title: "".into(),
    };
    let (module, _) = lower::lower(&parsed.tree, location);
    let asked_for = module
        .decls
        .iter()
        .filter(|decl| decl.kind.role() != nubrik_graph::Role::Inner);
    let told = |decl: &hir::Decl| DeclaredTarget {
        name: decl.name.text.to_string(),
        word: decl.kind.word(),
        documentation: decl.documentation.to_string(),
    };
    asked_for.map(told).collect()
}

/// Whether a text may be the name of a declaration: `[a-z][a-z0-9_]*`, and no word of the language.
pub fn is_free_name(text: &str) -> bool {
    nubrik_syntax::is_name(text)
        && !nubrik_syntax::is_reserved(text)
        && !builtins::is_builtin_name(text)
}
