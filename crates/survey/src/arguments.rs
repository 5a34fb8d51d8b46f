//! Programs among tests that want arguments.

use crate::names::NameGiver;
use crate::proposal::{
    Body, Definition, DefinitionAddress, FieldValue, Keyword, KindCall, Kit, Proposal,
};
use crate::tree::stem_of;
use crate::tried::TryFailure;

/// What such a program is.
const USED: &str = "A program that tests use.";

/// A program among tests that says how it is used wants arguments: somebody else starts it.
pub(crate) fn wants_arguments(
    proposal: &mut Proposal,
    address: &DefinitionAddress,
    trouble: &TryFailure,
) -> Option<String> {
    if !says_usage(&trouble.printed) {
        return None;
    }
    let place = proposal
        .definitions
        .iter()
        .position(|one| one.address == *address)?;
    let definition = &mut proposal.definitions[place];
    let how = |name: &str| format!("{name} wants arguments, so it is a program and no test");
    match &mut definition.body {
        Body::Kind(call) if is_test_program(call) => {
            as_program(call);
            definition.keyword = Keyword::Target;
            definition.documentation = USED.to_owned();
            Some(how(&address.name))
        }
        Body::Each(files, field, call) if is_test_program(call) => {
            let source = files
                .iter()
                .find(|file| stem_of(file) == trouble.key)
                .cloned()?;
            files.remove(&source);
            let is_empty = files.is_empty();
            let mut call = call.clone();
            as_program(&mut call);
            let mut sources = call.files(field);
            sources.insert(source);
            call.fields.retain(|(name, _)| name != field);
            call.fields.insert(0, (*field, FieldValue::Files(sources)));
            let package = &address.package;
            let mut names = NameGiver::default();
            let taken = proposal
                .definitions
                .iter()
                .filter(|one| one.address.package == *package);
            taken.for_each(|one| names.take(package, &one.address.name));
            let program = Definition::new(
                Keyword::Target,
                &names.give(package, &trouble.key, "program"),
                USED.to_owned(),
                Body::Kind(call),
            );
            proposal.definitions.insert(place, program);
            if is_empty {
                proposal.definitions.retain(|one| one.address != *address);
            }
            Some(how(&trouble.key))
        }
        _ => None,
    }
}

/// Whether something printed says how it is used.
fn says_usage(printed: &str) -> bool {
    let words = [
        "missing option",
        "missing argument",
        "missing operand",
        "--help",
    ];
    let mut lines = printed.lines().map(|line| line.trim_start().to_lowercase());
    lines.any(|line| line.starts_with("usage") || words.iter().any(|word| line.contains(word)))
}

fn is_test_program(call: &KindCall) -> bool {
    call.kit == Kit::C && call.kind == "test_program"
}

fn as_program(call: &mut KindCall) {
    call.kind = "program";
    call.fields
        .retain(|(name, _)| *name != "folder" && *name != "reads");
}
