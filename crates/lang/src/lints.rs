//! What is allowed but probably not meant.

use std::collections::HashSet;
use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_graph::TargetId;
use nubrik_source::{Sources, Span};

use crate::hir::*;
use crate::value::FileRef;

/// Names of a module that nothing uses.
pub(crate) fn unused(module: &Module) -> Vec<Diagnostic> {
    let mut used_decls = HashSet::new();
    let mut used_members = HashSet::new();
    let mut used_kits = HashSet::new();
    for reference in module.decls.iter().flat_map(|d| &d.references) {
        match &reference.to {
            ReferenceTo::Decl(number) => drop(used_decls.insert(*number)),
            ReferenceTo::Member(number, name) => {
                used_kits.insert(*number);
                used_members.insert((*number, name.clone()));
            }
            ReferenceTo::Address(_) => {}
        }
    }
    let mut warnings = Vec::new();
    for (number, item) in module.uses.iter().enumerate() {
        if let Some(alias) = &item.alias
            && !used_kits.contains(&(number as u32))
        {
            let warning =
                Diagnostic::warning("unused", format!("the kit `{}` is never used", alias.text));
            warnings.push(warning.at(alias.span).mend("remove this `use`"));
        }
        for name in &item.names {
            if !used_members.contains(&(number as u32, name.text.clone())) {
                let warning =
                    Diagnostic::warning("unused", format!("`{}` is never used", name.text));
                warnings.push(warning.at(name.span).mend("take it out of this `use`"));
            }
        }
    }
    for (number, decl) in module.decls.iter().enumerate() {
        // Other packages may refer to an open value, and other files to anything open in a kit.
        let own = decl.private && decl.kind.role() == nubrik_graph::Role::Inner;
        if own && !used_decls.contains(&(number as u32)) {
            let message = format!(
                "the {} `{}` is never used",
                decl.kind.word(),
                decl.name.text
            );
            warnings.push(
                Diagnostic::warning("unused", message)
                    .at(decl.name.span)
                    .mend("remove it"),
            );
        }
    }
    warnings.extend(module.decls.iter().flat_map(|d| unused_params(module, d)));
    warnings
}

/// Commands for a shell that use nothing of it.
pub(crate) fn needless_shells(module: &Module) -> Vec<Diagnostic> {
    let shells = module
        .exprs
        .iter()
        .zip(&module.spans)
        .filter_map(|(expr, span)| match expr {
            Expr::Shell(pieces) => Some((pieces, span)),
            _ => None,
        });
    let needless = shells.filter(|(pieces, _)| {
        let literals = pieces.iter().filter_map(|p| {
            if let ShellPiece::Literal(t) = p {
                Some(&**t)
            } else {
                None
            }
        });
        let text: String = literals.collect();
        let first = text.split_whitespace().next().unwrap_or("");
        let is_word_of_shells = [
            "if", "for", "while", "until", "case", "cd", "export", "set", "test", "[", "exec",
            "eval", ":", ".",
        ]
        .contains(&first);
        // Words, quotes, holes, pipes and redirects need no shell.
        !is_word_of_shells
            && !first.contains('=')
            && !text.contains(">>")
            && !text.contains([
                '$', ';', '&', '*', '?', '(', '`', '~', '#', '\\', '\n', '!', '{',
            ])
    });
    needless
        .map(|(_, span)| {
            let warning = Diagnostic::warning("shell-not-needed", "this command needs no shell");
            warning
                .at(*span)
                .note("without one, every tool that it starts is known")
                .mend("drop `sh`")
        })
        .collect()
}

/// Names in braces that look like holes and are none, and holes behind a `$`, which stays.
pub(crate) fn odd_holes(module: &Module, sources: &Sources) -> Vec<Diagnostic> {
    let params = module.decls.iter().flat_map(|d| &d.to_tell().params);
    let lets = module.decls.iter().flat_map(|d| &d.to_tell().lets);
    let names: HashSet<&str> = (module.names.keys().map(|name| &**name))
        .chain(params.map(|param| &*param.name.text))
        .chain(lets.map(|item| &*item.name.text))
        .collect();
    let odd = |expr: &Expr, span: Span| {
        let written = sources.slice(span);
        match expr {
            Expr::Plain(text) if written.starts_with('\'') && !written.starts_with("'''") => {
                let inside = text
                    .split('{')
                    .skip(1)
                    .filter_map(|rest| rest.split_once('}'));
                let name = inside
                    .map(|(name, _)| name)
                    .find(|name| names.contains(name))?;
                let message = format!("`{{{name}}}` is no hole between single quotes");
                let warning = Diagnostic::warning("odd-hole", message).at(span);
                Some(match text.contains(['"', '\\', '\n']) {
                    true => warning.note("a text in double quotes has holes"),
                    false => warning.mend(format!("\"{text}\"")),
                })
            }
            Expr::Text(pieces) => {
                let is_behind = |pair: &[Piece]| match pair {
                    [Piece::Literal(text), Piece::Hole(hole)] if text.ends_with('$') => Some(*hole),
                    _ => None,
                };
                let hole = sources.slice(module.span(pieces.windows(2).find_map(is_behind)?));
                let message = format!("the `$` before `{{{hole}}}` stays in the text");
                let warning = Diagnostic::warning("odd-hole", message).at(span);
                Some(warning.mend(written.replacen(
                    &format!("${{{hole}}}"),
                    &format!("{{{hole}}}"),
                    1,
                )))
            }
            _ => None,
        }
    };
    module
        .exprs
        .iter()
        .zip(&module.spans)
        .filter_map(|(expr, span)| odd(expr, *span))
        .collect()
}

/// Options that no target reads.
pub(crate) fn unread_option(module: &Module, number: u32) -> Diagnostic {
    let name = &module.decls[number as usize].name;
    let warning = Diagnostic::warning(
        "unused",
        format!("no target reads the option `{}`", name.text),
    );
    warning
        .at(name.span)
        .note("setting it changes nothing")
        .mend("remove it")
}

/// A glob that was evaluated: where, whose, and what it found.
#[derive(Clone, Debug)]
pub(crate) struct GlobUse {
    pub span: Span,
    pub target: TargetId,
    pub files: Rc<[FileRef]>,
}

/// Globs of two targets that share many files but not all: most often one of them means less.
pub(crate) fn overlapping_globs(
    uses: &[GlobUse],
    title: impl Fn(TargetId) -> Arc<str>,
) -> Vec<Diagnostic> {
    let mut warnings = Vec::new();
    let mut seen = HashSet::new();
    for (i, one) in uses.iter().enumerate() {
        let files: HashSet<&FileRef> = one.files.iter().collect();
        for other in &uses[i + 1..] {
            if other.target == one.target
                || other.span == one.span
                || other.files.len() < 2
                || one.files.len() < 2
            {
                continue;
            }
            let shared = other.files.iter().filter(|f| files.contains(f)).count();
            let smaller = one.files.len().min(other.files.len());
            if shared * 2 < smaller || shared == smaller || !seen.insert((one.span, other.span)) {
                continue;
            }
            let message = format!(
                "{shared} of these files are also matched for `{}`",
                title(one.target)
            );
            let warning = Diagnostic::warning("shared-files", message).at(other.span);
            warnings.push(
                warning
                    .related(
                        one.span,
                        format!("{} files for `{}`", one.files.len(), title(one.target)),
                    )
                    .note("both targets use them: editing one of them rebuilds both")
                    .mend("glob(\"…\", except = \"…\") leaves files out"),
            );
        }
    }
    warnings
}

fn unused_params(module: &Module, decl: &Decl) -> Vec<Diagnostic> {
    let (Some(body), false) = (decl.to_tell().body, decl.to_tell().params.is_empty()) else {
        return Vec::new();
    };
    // Names in scope of a declaration are distinguished by their text: shadowing is an error.
    let start = decl.name.span.start;
    let end = module.span(body).end;
    let mut used: HashSet<u16> = HashSet::new();
    for (i, expr) in module.exprs.iter().enumerate() {
        let span = module.spans[i];
        if span.start >= start
            && span.end <= end
            && let Expr::Local { slot, .. } = expr
        {
            used.insert(*slot);
        }
    }
    let names = decl
        .to_tell()
        .params
        .iter()
        .map(|p| &p.name)
        .chain(decl.to_tell().lets.iter().map(|l| &l.name));
    let unused = names
        .enumerate()
        .filter(|(slot, _)| !used.contains(&(*slot as u16)));
    unused
        .map(|(_, name)| {
            let warning = Diagnostic::warning("unused", format!("`{}` is never used", name.text));
            warning.at(name.span).mend("remove it")
        })
        .collect()
}
