//! What people look for under a word of their own: other names of topics, and fields of forms.

use nubrik_lang::topics::Topic;

/// Words that people try, and the topics that answer them.
const GUESSES: [(&str, &[&str]); 110] = [
    ("&", &["reference"]),
    ("+", &["operators"]),
    ("/", &["path_join", "operators"]),
    ("==", &["operators"]),
    ("and", &["operators"]),
    ("or", &["operators"]),
    ("not", &["operators"]),
    ("?", &["optional"]),
    ("|", &["alternatives"]),
    ("[]", &["list"]),
    ("#", &["documentation"]),
    ("##", &["documentation"]),
    ("comment", &["documentation"]),
    ("backtick", &["command"]),
    ("type", &["type_declaration", "declared_type"]),
    ("types", &["declared_type", "type_declaration"]),
    ("convert", &["coercion"]),
    ("cast", &["coercion"]),
    ("give", &["each", "kind"]),
    ("where", &["each"]),
    ("for", &["each"]),
    ("loop", &["each"]),
    ("then", &["if"]),
    ("else", &["if", "match"]),
    ("switch", &["match"]),
    ("none", &["optional"]),
    ("null", &["optional"]),
    ("string", &["text"]),
    ("number", &["int"]),
    ("true", &["bool"]),
    ("false", &["bool"]),
    ("dict", &["map"]),
    ("object", &["record"]),
    ("array", &["list"]),
    ("enum", &["alternatives"]),
    ("path", &["path", "path_join", "no-such-file"]),
    ("import", &["use"]),
    ("include", &["use"]),
    ("function", &["let"]),
    ("variable", &["let", "env"]),
    ("macro", &["kind"]),
    ("rule", &["step"]),
    ("task", &["job", "effect"]),
    ("shell", &["sh", "shell-syntax"]),
    ("bash", &["sh", "shell-syntax"]),
    ("script", &["sh"]),
    ("pattern", &["glob"]),
    ("wildcard", &["glob"]),
    ("input", &["{in …}"]),
    ("inputs", &["{in …}"]),
    ("output", &["{out …}"]),
    ("outputs", &["{out …}"]),
    ("environment", &["env"]),
    ("password", &["secret"]),
    ("parallel", &["jobs"]),
    ("cores", &["jobs"]),
    ("os", &["host"]),
    ("platform", &["host"]),
    ("library", &["c.library", "system_library"]),
    ("program", &["c.program"]),
    ("binary", &["c.program"]),
    ("executable", &["c.program"]),
    ("archive", &["pack", "unpack"]),
    ("zip", &["pack"]),
    ("tar", &["pack"]),
    ("download", &["fetch"]),
    ("url", &["fetch"]),
    ("json", &["load_json"]),
    ("csv", &["load_csv"]),
    ("profile", &["profiles"]),
    ("variant", &["under"]),
    ("address", &["target path"]),
    ("directory", &["folder", "{outfolder …}"]),
    ("dir", &["folder", "{outfolder …}"]),
    ("left", &["unstarted"]),
    ("store", &["cache"]),
    ("room", &["sandbox"]),
    ("rooms", &["sandbox"]),
    ("box", &["sandbox"]),
    ("confinement", &["sandbox"]),
    ("isolation", &["sandbox"]),
    ("refused", &["sandbox", "undeclared-made"]),
    ("exit", &["exit codes"]),
    ("status", &["exit codes"]),
    ("codes", &["exit codes"]),
    ("usage", &["exit codes"]),
    ("remote", &["shared cache", "workers"]),
    ("team", &["shared cache", "shared"]),
    ("line", &["channel"]),
    ("pool", &["workers"]),
    ("member", &["shared add", "shared cache"]),
    ("seal", &["current"]),
    ("hole", &["{in …}", "{out …}"]),
    ("holes", &["{in …}", "{out …}"]),
    ("pin", &["pins"]),
    ("share", &["shared", "shared cache"]),
    ("registry", &["origins", "pins"]),
    ("origin", &["origins"]),
    ("mirror", &["origins"]),
    ("verdict", &["ran", "failed", "current"]),
    ("label", &["NUBRIK_LABELS", "workers serve"]),
    ("slots", &["workers serve"]),
    ("dependency", &["dependency path", "tree"]),
    ("unit", &["duration"]),
    ("hash", &["key"]),
    ("digest", &["key"]),
    ("quarantine", &["flaky", "check"]),
    ("editor", &["lsp"]),
    ("licence", &["sbom"]),
    ("resident", &["persistent worker"]),
];

/// Words that people try, each with the names of the topics that answer it.
pub fn guesses() -> impl Iterator<Item = (&'static str, &'static [&'static str])> {
    GUESSES.into_iter()
}

/// The topics of a guess, in the order in which they answer it.
pub(super) fn guessed<'t>(all: &'t [Topic], wanted: &str) -> Vec<&'t Topic> {
    let names = GUESSES
        .iter()
        .find(|(guess, _)| *guess == wanted)
        .map(|(_, names)| *names)
        .unwrap_or_default();
    names
        .iter()
        .flat_map(|name| all.iter().filter(move |topic| topic.name == *name))
        .collect()
}

/// A field or parameter of some forms and kinds, as a topic of its own; `None` where none is called
/// so.
pub(super) fn field(all: &[Topic], wanted: &str) -> Option<Topic> {
    let of = |topic: &Topic| {
        let part = topic.parts.iter().find(|(name, ..)| name == wanted)?;
        Some((topic.name.clone(), part.1.clone(), part.2.clone()))
    };
    let parts: Vec<(String, String, String)> = all
        .iter()
        .filter(|topic| ["form", "kit", "function"].contains(&topic.category))
        .filter_map(of)
        .collect();
    (!parts.is_empty()).then(|| Topic {
        name: wanted.to_owned(),
        category: "field",
        summary: "What it is for in each form and kind that has it:".to_owned(),
        parts,
        example: String::new(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_are_explained_by_the_forms_that_have_them() {
        let mut all = nubrik_lang::topics::topics();
        all.extend(nubrik_session::kit_topics());
        for name in [
            "reads", "run", "say", "makes", "timeout", "network", "memory", "needs", "flags",
            "headers",
        ] {
            let field = field(&all, name).unwrap_or_else(|| panic!("no form has {name}"));
            assert!(!field.parts.is_empty(), "{name}");
        }
        assert!(field(&all, "nothing_of_that").is_none());
    }
}
