//! Which modules, procedures and files a source of Fortran defines and uses, statement by
//! statement.

use std::collections::BTreeSet;
use std::sync::LazyLock;

use regex::Regex;

/// What a source says of itself. All names but those of files are in small letters.
#[derive(Default, Debug)]
pub(super) struct FortranFacts {
    /// Modules that it defines.
    pub modules: BTreeSet<String>,
    /// Modules that it uses and does not define, those of its submodules among them.
    pub uses: BTreeSet<String>,
    /// The same, where a preprocessor decides.
    pub may_use: BTreeSet<String>,
    /// Procedures that it defines outside of modules.
    pub procedures: BTreeSet<String>,
    /// Procedures that it calls, or declares as external, and does not define.
    pub calls: BTreeSet<String>,
    /// Files that it includes, as it names them.
    pub includes: BTreeSet<String>,
    /// Those of them that it includes by the language's own statement, whatever a preprocessor
    /// decides.
    pub must_include: BTreeSet<String>,
    /// Whether it has a main program, with a `PROGRAM` statement or without.
    pub has_program: bool,
    /// Whether it has statements that are in no program unit that ends: a piece that others
    /// include.
    pub is_fragment: bool,
}

/// Whether a source is in fixed form, by its ending.
fn is_fixed(ext: &str) -> bool {
    matches!(
        ext.to_ascii_lowercase().as_str(),
        "f" | "for" | "ftn" | "f77"
    )
}

/// What encloses a statement.
#[derive(Clone, Copy, PartialEq, Eq)]
enum UnitScope {
    Main,
    Module,
    Procedure,
    Interface,
}

/// An expression that is written in the program, where names are escaped in it.
#[allow(clippy::expect_used)] // A test uses each.
pub(super) fn expression(text: &str) -> Regex {
    Regex::new(text).expect("a constant expression is one")
}

static MODULE: LazyLock<Regex> = LazyLock::new(|| expression(r"^module\s+(\w+)\s*$"));
static SUBMODULE: LazyLock<Regex> =
    LazyLock::new(|| expression(r"^submodule\s*\(\s*(\w+)\s*(?::\s*(\w+)\s*)?\)\s*(\w+)"));
static PROCEDURE: LazyLock<Regex> = LazyLock::new(|| {
    let prefix = r"(?:pure|impure|elemental|recursive|non_recursive|module)\s+";
    let of = r"[a-z][\w ]*?\s*(?:\*\s*(?:\d+|\(\s*\*\s*\))|\((?:[^()]|\([^()]*\))*\))?\s*";
    expression(&format!(
        r"^(?:{prefix})*(?:subroutine\s+(\w+)|(?:{of}\b)?(?:{prefix})*function\s+(\w+)\s*\(|procedure\s+(\w+)\s*$)"
    ))
});
static END: LazyLock<Regex> = LazyLock::new(|| {
    let units = r"program|module|submodule|subroutine|function|procedure|block\s*data|interface";
    expression(&format!(r"^end\s*(?:(?:{units})\b.*)?$"))
});
static USE: LazyLock<Regex> = LazyLock::new(|| {
    expression(r"^use(?:\s*,\s*(intrinsic|non_intrinsic)\s*::\s*|\s*::\s*|\s+)(\w+)")
});
static CALL: LazyLock<Regex> = LazyLock::new(|| expression(r"\bcall\s+(\w+)\s*(%)?"));
static INCLUDE: LazyLock<Regex> =
    LazyLock::new(|| expression(r#"(?i)^\s*#?\s*include\s*['"<]([^'">]+)['">]"#));

/// Modules that each compiler has.
const INTRINSIC: [&str; 8] = [
    "iso_c_binding",
    "iso_fortran_env",
    "ieee_arithmetic",
    "ieee_exceptions",
    "ieee_features",
    "omp_lib",
    "omp_lib_kinds",
    "openacc",
];

/// Looks at the text of a source with this ending.
pub(super) fn facts(text: &str, ext: &str) -> FortranFacts {
    let mut scan = Scan {
        facts: FortranFacts::default(),
        scopes: Vec::new(),
        own: BTreeSet::new(),
        choices: 0,
    };
    let fixed = is_fixed(ext);
    let mut goes_on = false;
    for line in text.lines() {
        if let Some(found) = INCLUDE.captures(line) {
            let name = found[1].to_owned();
            if scan.choices == 0 && !line.trim_start().starts_with('#') {
                scan.facts.must_include.insert(name.clone());
            }
            scan.facts.includes.insert(name);
            continue;
        }
        if line.starts_with('#') {
            scan.preprocess(line);
            continue;
        }
        let Some(statement) = statement(line, fixed, &mut goes_on) else {
            continue;
        };
        // Several may be on a line; none of those that count has the sign in it.
        for one in statement
            .split(';')
            .map(str::trim)
            .filter(|one| !one.is_empty())
        {
            scan.statement(one);
        }
    }
    scan.facts.is_fragment |= !scan.scopes.is_empty();
    let Scan { mut facts, own, .. } = scan;
    let FortranFacts {
        modules,
        uses,
        may_use,
        calls,
        ..
    } = &mut facts;
    for used in [uses, may_use] {
        used.retain(|name| !modules.contains(name) && !INTRINSIC.contains(&name.as_str()));
    }
    calls.retain(|name| !own.contains(name));
    facts
}

/// The statement that begins in a line, in small letters, without its label; `None` for comments
/// and for lines that go on with one.
fn statement(line: &str, fixed: bool, goes_on: &mut bool) -> Option<String> {
    let line = line.trim_end();
    let text = if fixed {
        let first = line.chars().next()?;
        if "cC*!".contains(first) {
            return None;
        }
        let column = line.char_indices().nth(5);
        let is_continued = |at: usize, sign: char| {
            line[..at].trim().is_empty() && !line[..at].contains('\t') && sign != ' ' && sign != '0'
        };
        if column.is_some_and(|(at, sign)| is_continued(at, sign)) {
            return None;
        }
        without_comment(line)
    } else {
        let text = without_comment(line);
        let continued = std::mem::replace(goes_on, text.trim_end().ends_with('&'));
        if text.trim().is_empty() {
            // A comment between two parts of a statement.
            *goes_on = continued;
            return None;
        }
        if continued {
            return None;
        }
        text
    };
    let bare = text
        .trim()
        .trim_start_matches(|c: char| c.is_ascii_digit())
        .trim();
    (!bare.is_empty()).then(|| bare.trim_end_matches('&').trim().to_lowercase())
}

/// A line up to the comment at its end.
fn without_comment(line: &str) -> &str {
    let mut quote = None;
    for (at, sign) in line.char_indices() {
        match (quote, sign) {
            (None, '!') => return &line[..at],
            (None, '\'' | '"') => quote = Some(sign),
            (Some(open), _) if open == sign => quote = None,
            _ => {}
        }
    }
    line
}

struct Scan {
    facts: FortranFacts,
    scopes: Vec<UnitScope>,
    /// All procedures that it defines, those in modules and in others, too.
    own: BTreeSet<String>,
    /// How many conditions of a preprocessor enclose the line.
    choices: usize,
}

impl Scan {
    fn preprocess(&mut self, line: &str) {
        let word = line[1..].trim_start();
        if word.starts_with("if") {
            self.choices += 1;
        } else if word.starts_with("endif") {
            self.choices = self.choices.saturating_sub(1);
        }
    }

    fn statement(&mut self, text: &str) {
        let top = self.scopes.last().copied();
        if END.is_match(text) {
            self.facts.is_fragment |= self.scopes.pop().is_none();
            return;
        }
        if text.starts_with("interface") || text.starts_with("abstract interface") {
            return self.scopes.push(UnitScope::Interface);
        }
        if let Some(found) = SUBMODULE.captures(text) {
            let names = [found.get(1), found.get(2)].into_iter().flatten();
            self.facts
                .uses
                .extend(names.map(|name| name.as_str().to_owned()));
            self.facts.modules.insert(found[3].to_owned());
            return self.scopes.push(UnitScope::Module);
        }
        if let Some(found) = PROCEDURE.captures(text) {
            // In an interface it names one that is defined elsewhere.
            if found.get(3).is_some() && top == Some(UnitScope::Interface) {
                return;
            }
            let name = [1, 2, 3].into_iter().find_map(|at| found.get(at));
            let name = name
                .map(|name| name.as_str().to_owned())
                .unwrap_or_default();
            if top.is_none() {
                self.facts.procedures.insert(name.clone());
            }
            if top != Some(UnitScope::Interface) {
                self.own.insert(name);
            }
            return self.scopes.push(UnitScope::Procedure);
        }
        if let Some(found) = MODULE.captures(text) {
            self.facts.modules.insert(found[1].to_owned());
            return self.scopes.push(UnitScope::Module);
        }
        match top {
            None if text.starts_with("block") && text[5..].trim_start().starts_with("data") => {
                self.scopes.push(UnitScope::Procedure);
            }
            None => {
                // With a `PROGRAM` statement, or the first one of a main program without.
                self.facts.has_program = true;
                self.scopes.push(UnitScope::Main);
                self.inside(text);
            }
            Some(_) => self.inside(text),
        }
    }

    /// A statement inside of a program unit.
    fn inside(&mut self, text: &str) {
        if let Some(found) = USE.captures(text) {
            let is_intrinsic = found
                .get(1)
                .is_some_and(|nature| nature.as_str() == "intrinsic");
            let used = if self.choices > 0 {
                &mut self.facts.may_use
            } else {
                &mut self.facts.uses
            };
            if !is_intrinsic {
                used.insert(found[2].to_owned());
            }
        } else if let Some(names) = text.strip_prefix("entry ") {
            let name: String = names
                .trim()
                .chars()
                .take_while(|c| c.is_alphanumeric() || *c == '_')
                .collect();
            self.facts.procedures.insert(name.clone());
            self.own.insert(name);
        } else if let Some(names) = text.strip_prefix("external") {
            let names = names
                .trim_start()
                .trim_start_matches("::")
                .split(',')
                .map(str::trim);
            let is_name = |name: &&str| {
                !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
            };
            self.facts
                .calls
                .extend(names.filter(is_name).map(str::to_owned));
        } else {
            // What follows a component is bound to a type.
            let called = CALL
                .captures_iter(text)
                .filter(|found| found.get(2).is_none());
            self.facts
                .calls
                .extend(called.map(|found| found[1].to_owned()));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn list(names: &BTreeSet<String>) -> String {
        names
            .iter()
            .map(String::as_str)
            .collect::<Vec<_>>()
            .join(" ")
    }

    #[test]
    fn modules_and_submodules_say_what_they_define_and_use() {
        let text = "! module nothing\nMODULE Tide ! of the isles\n use, intrinsic :: iso_c_binding\n use :: harmonics, only: fit\n\
                    interface fit\n module procedure fit_one\n end interface\ncontains\n pure real(kind=8) function height(t)\n\
                    call spring(t); call moon%rise()\n end function\n subroutine spring(t)\n end subroutine spring\nEND MODULE\n\
                    submodule (tide:tables) rows\ncontains\nmodule procedure fit_two\ncall neap()\nend procedure\nend submodule\n\
                    #ifdef MPI\nsubroutine wide\nuse mpi\nend\n#endif\n";
        let found = facts(text, "F90");
        assert_eq!(list(&found.modules), "rows tide");
        assert_eq!(list(&found.uses), "harmonics tables");
        assert_eq!(list(&found.may_use), "mpi");
        assert_eq!(list(&found.procedures), "wide");
        assert_eq!(list(&found.calls), "neap");
        assert!(!found.has_program && !found.is_fragment, "{found:?}");
    }

    #[test]
    fn main_programs_need_no_program_statement() {
        let fixed = "C     program\n*     of tides\n      real x\n      external f,\n     & g\n   10 call moon(x) ! not call sun\n      if (x.gt.1) call ebb\n      end\n\
                    \x20     double precision function f(x)\n      f = 1\n      return\n      end\n      subroutine\tebb\n      entry flow(x)\n      end\n";
        let found = facts(fixed, "f");
        assert!(found.has_program && !found.is_fragment, "{found:?}");
        assert_eq!(list(&found.calls), "moon");
        assert_eq!(list(&found.procedures), "ebb f flow");
        for (text, ext) in [
            (
                "program tide\n x = &\n  ! a remark\n  1\nend program tide\n",
                "f90",
            ),
            ("\tprogram tide\n\tend\n", "for"),
            ("print *, 'end'\nend\n", "f90"),
        ] {
            let found = facts(text, ext);
            assert!(found.has_program && !found.is_fragment, "{text}: {found:?}");
        }
        for (text, ext) in [
            ("      subroutine tide\n      end\n", "f"),
            (
                "      block data tide\n      common /x/ y\n      end\n",
                "f",
            ),
            ("      character*(*) function tide(x)\n      end\n", "f"),
            ("recursive subroutine tide\nend subroutine\n", "f90"),
            ("type(moon) function tide(x)\nend function\n", "f90"),
            ("integer pure function tide(x)\nend function\n", "f90"),
        ] {
            let found = facts(text, ext);
            assert!(
                !found.has_program && !found.is_fragment && found.procedures.len() < 2,
                "{text}: {found:?}"
            );
        }
    }

    #[test]
    fn pieces_that_others_include_are_known() {
        let found = facts("      real x\n      common /tides/ x\n", "f");
        assert!(found.is_fragment, "{found:?}");
        let found = facts("include 'tides.inc'\n#include \"moon.h\"\n", "F90");
        assert_eq!(list(&found.includes), "moon.h tides.inc");
        assert_eq!(list(&found.must_include), "tides.inc");
        assert!(!found.is_fragment && !found.has_program);
    }
}
