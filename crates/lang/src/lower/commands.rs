//! Commands: tokens to words, pipes and redirects.

use std::rc::Rc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;
use nubrik_syntax::{Element, Node, SyntaxKind, views};

use super::Lowerer;
use crate::hir::*;

/// Where the next finished word goes.
#[derive(Clone, Copy, PartialEq)]
enum Destination {
    Words,
    Stdin,
    Stdout,
    Stderr,
}

/// The command as far as it was read.
struct Reading {
    stages: Vec<CommandStage>,
    word: Option<Word>,
    destination: Destination,
    /// The operator that waits for its file.
    operator: Option<Span>,
}

impl Lowerer {
    pub(super) fn command(&mut self, node: Node<'_>) -> Expr {
        let mut reading = Reading {
            stages: vec![CommandStage::default()],
            word: None,
            destination: Destination::Words,
            operator: None,
        };
        self.command_elements(node, &mut reading, false);
        self.finish_word(&mut reading);
        if let Some(span) = reading.operator {
            self.missing_file(span);
        }
        let span = self.span(node);
        if reading.stages.iter().any(|s| s.words.is_empty()) {
            let error = Diagnostic::error("empty-command", "this command is empty");
            self.report(span, error.mend("`tool argument {out \"result\"}`"));
            return Expr::Error;
        }
        Expr::Command(Rc::new(Command {
            stages: reading.stages,
        }))
    }

    fn command_elements(&mut self, node: Node<'_>, reading: &mut Reading, quoted: bool) {
        for element in node.elements() {
            match element {
                Element::Token(token) => {
                    let text = node.token_text(token);
                    let span = self.token_span(token);
                    match token.kind {
                        SyntaxKind::CommandSpace => self.finish_word(reading),
                        SyntaxKind::CommandPart | SyntaxKind::CommandShell => {
                            push(reading, span, quoted, Some(WordPiece::Literal(text.into())));
                        }
                        SyntaxKind::CommandEscape => {
                            let text = text
                                .strip_prefix('\\')
                                .map_or_else(|| views::unescape(text), str::to_owned);
                            push(reading, span, quoted, Some(WordPiece::Literal(text.into())));
                        }
                        SyntaxKind::CommandRaw => {
                            let inner = text.trim_start_matches('\'');
                            if !text.ends_with('\'') || text.len() < 2 {
                                let error = Diagnostic::error(
                                    "unclosed",
                                    "this group in the command is never closed",
                                );
                                self.report(
                                    span,
                                    error.mend(
                                        "close it with `'`, or write `\\'` for the character",
                                    ),
                                );
                            }
                            let inner = inner.strip_suffix('\'').unwrap_or(inner);
                            push(reading, span, true, Some(WordPiece::Literal(inner.into())));
                        }
                        SyntaxKind::CommandOperator => self.operator(text, span, reading),
                        _ => {}
                    }
                }
                Element::Node(id) => {
                    let inner = node.node(id);
                    let span = self.span(inner);
                    match inner.kind() {
                        SyntaxKind::CommandQuote => {
                            push(reading, span, true, None);
                            self.command_elements(inner, reading, true);
                        }
                        SyntaxKind::Hole => {
                            let value = self.child_expression(inner, 0);
                            push(reading, span, quoted, Some(WordPiece::Value(value)));
                        }
                        SyntaxKind::HoleForm => {
                            let form = self.hole_form(inner);
                            push(reading, span, quoted, form);
                        }
                        _ => {}
                    }
                }
            }
        }
    }

    /// ``sh`…` ``: what the shell reads, and the holes in it.
    pub(super) fn shell(&mut self, node: Node<'_>) -> Expr {
        let mut pieces = Vec::new();
        let mut places = Vec::new();
        self.shell_elements(node, &mut pieces, &mut places);
        for hole in note_quotes(&mut pieces) {
            let error =
                Diagnostic::error("hole-in-document", "a hole cannot be in a here-document");
            let error =
                error.note("the shell reads the text between `<<` and its end without quotes");
            let error =
                error.mend("sh`tool < {textfile \"input\" \"… {value} …\"} > {out \"result\"}`");
            self.report(
                places[hole],
                error.mend("sh`printf '%s\\n' {value} | tool > {out \"result\"}`"),
            );
        }
        let blank =
            |piece: &ShellPiece| matches!(piece, ShellPiece::Literal(t) if t.trim().is_empty());
        if pieces.iter().all(blank) {
            let error = Diagnostic::error("empty-command", "this command is empty");
            self.report(
                self.span(node),
                error.mend("sh`tool argument > {out \"result\"}`"),
            );
            return Expr::Error;
        }
        Expr::Shell(Rc::new(pieces))
    }

    /// The pieces of a script, and the places of its holes.
    fn shell_elements(
        &mut self,
        node: Node<'_>,
        pieces: &mut Vec<ShellPiece>,
        places: &mut Vec<Span>,
    ) {
        for element in node.elements() {
            let piece = match element {
                Element::Token(token) => {
                    let text = node.token_text(token);
                    match (token.kind, text) {
                        (
                            SyntaxKind::CommandOpen | SyntaxKind::CommandClose | SyntaxKind::Word,
                            _,
                        ) => {
                            continue;
                        }
                        (kind, _) if kind.is_trivia() => continue,
                        // The shell reads backslashes itself.
                        (SyntaxKind::CommandEscape, "{{" | "}}") => {
                            ShellPiece::Literal(text[..1].into())
                        }
                        _ => ShellPiece::Literal(text.into()),
                    }
                }
                Element::Node(id) => {
                    let inner = node.node(id);
                    match inner.kind() {
                        SyntaxKind::CommandQuote => {
                            self.shell_elements(inner, pieces, places);
                            continue;
                        }
                        SyntaxKind::Hole => {
                            let piece = WordPiece::Value(self.child_expression(inner, 0));
                            places.push(self.span(inner));
                            ShellPiece::Hole {
                                piece,
                                inside: false,
                            }
                        }
                        SyntaxKind::HoleForm => match self.hole_form(inner) {
                            Some(piece) => {
                                places.push(self.span(inner));
                                ShellPiece::Hole {
                                    piece,
                                    inside: false,
                                }
                            }
                            None => continue,
                        },
                        _ => continue,
                    }
                }
            };
            pieces.push(piece);
        }
    }

    fn hole_form(&mut self, node: Node<'_>) -> Option<WordPiece> {
        let mut words = node.words();
        let form = node.token_text(words.next()?);
        let name = words.next().map(|t| self.name(node, t));
        match form {
            "in" => return Some(WordPiece::In(self.child_expression(node, 0))),
            "argfile" => return Some(WordPiece::ArgFile(self.child_expression(node, 0))),
            _ => {}
        }
        let path = self.child_expression(node, 0);
        match form {
            "out" | "outfolder" | "early" => Some(WordPiece::Out {
                name,
                path,
                folder: form == "outfolder",
                early: form == "early",
            }),
            "depfile" => Some(WordPiece::DepFile { path }),
            "scratch" | "scratchfolder" => Some(WordPiece::Scratch {
                path,
                folder: form == "scratchfolder",
            }),
            "keptfolder" => Some(WordPiece::Kept { path }),
            "textfile" => Some(WordPiece::TextFile {
                path,
                text: self.child_expression(node, 1),
            }),
            _ => None, // The parser has refused it.
        }
    }

    fn operator(&mut self, text: &str, span: Span, reading: &mut Reading) {
        self.finish_word(reading);
        if let Some(before) = reading.operator.take() {
            self.missing_file(before);
        }
        if text == "|" {
            reading.stages.push(CommandStage::default());
            reading.destination = Destination::Words;
            return;
        }
        reading.destination = match text {
            "<" => Destination::Stdin,
            ">" => Destination::Stdout,
            _ => Destination::Stderr,
        };
        reading.operator = Some(span);
    }

    fn missing_file(&mut self, span: Span) {
        let error = Diagnostic::error("syntax", "expected a file after this redirect");
        self.report(
            span,
            error
                .mend("> {out \"result.txt\"}")
                .mend("< {in \"table.csv\"}"),
        );
    }

    fn finish_word(&mut self, reading: &mut Reading) {
        let Some(word) = reading.word.take() else {
            return;
        };
        self.refuse_home(&word);
        let Some(stage) = reading.stages.last_mut() else {
            return;
        };
        let span = word.span;
        let place = match reading.destination {
            Destination::Words => {
                stage.words.push(word);
                return;
            }
            Destination::Stdin => &mut stage.stdin,
            Destination::Stdout => &mut stage.stdout,
            Destination::Stderr => &mut stage.stderr,
        };
        reading.destination = Destination::Words;
        reading.operator = None;
        if place.replace(word).is_some() {
            let error = Diagnostic::error("syntax", "this is redirected twice in one command");
            self.report(span, error);
        }
    }
}

impl Lowerer {
    /// Refuses the home folder as a shell writes it: it would be a letter of the word.
    fn refuse_home(&mut self, word: &Word) {
        let Some(WordPiece::Literal(text)) = word.pieces.first().filter(|_| !word.quoted) else {
            return;
        };
        if &**text != "~" && !text.starts_with("~/") {
            return;
        }
        let error = Diagnostic::error("shell-syntax", "`~` means something only to a shell")
            .note("HOME is an empty folder in a step; `'~'` is the plain character");
        self.report(
            word.span,
            error.mend(format!("{{env(\"HOME\")}}{}", &text[1..])),
        );
    }
}

/// Adds a piece to the word being read; `None` only begins a (perhaps empty) word.
fn push(reading: &mut Reading, span: Span, quoted: bool, piece: Option<WordPiece>) {
    let word = reading.word.get_or_insert_with(|| Word {
        span,
        pieces: Vec::new(),
        quoted: false,
    });
    word.span = word.span.to(span);
    word.quoted |= quoted;
    match (word.pieces.last_mut(), piece) {
        (Some(WordPiece::Literal(before)), Some(WordPiece::Literal(text))) => {
            *before = format!("{before}{text}").into();
        }
        (_, Some(piece)) => word.pieces.push(piece),
        (_, None) => {}
    }
}

/// Notes for each hole of a script whether it is between double quotes. Gives which holes are in
/// here-documents, counted from 0: no quoting makes a word of these.
fn note_quotes(pieces: &mut [ShellPiece]) -> Vec<usize> {
    let mut reading = ScriptReading::default();
    let mut in_documents = Vec::new();
    let mut count = 0;
    for piece in pieces {
        match piece {
            ShellPiece::Literal(text) => text.chars().for_each(|character| reading.next(character)),
            ShellPiece::Hole { inside, .. } => {
                *inside = reading.open.last() == Some(&ScriptPlace::DoubleQuotes);
                if reading.line.is_some() {
                    in_documents.push(count);
                }
                count += 1;
                reading.hole();
            }
        }
    }
    in_documents
}

/// What a place in a script of a shell is inside of.
#[derive(Clone, Copy, PartialEq)]
enum ScriptPlace {
    SingleQuotes,
    DoubleQuotes,
    /// `(…)` or `$(…)`, in which quotes begin again, even between others.
    Brackets,
    /// `$((…))`, where `<<` is a shift.
    Arithmetic,
    /// `case … esac`, where `)` ends a pattern.
    Case,
    Comment,
}

/// Where reading of a script is: the texts between two holes, and between two escapes, are pieces
/// of their own, and go on from one to the next.
#[derive(Default)]
struct ScriptReading {
    open: Vec<ScriptPlace>,
    /// Whether the character before was a backslash.
    escaped: bool,
    /// Whether the character before was a `$`.
    dollar: bool,
    /// Whether `$(` was just before.
    begins: bool,
    /// Whether the character before is part of a word.
    in_word: bool,
    /// The word so far, of what is in no quotes.
    word: String,
    /// Whether the first word of the command was read: only before it the shell takes a word for
    /// one of its own.
    after_command: bool,
    /// Whether the `in` of a `case` is to come.
    expects_in: bool,
    /// So many `<` were just before.
    arrows: usize,
    /// The end of a here-document, while it is read behind its `<<`.
    naming: Option<String>,
    /// The ends of here-documents whose text is to come, or is here.
    documents: std::collections::VecDeque<String>,
    /// In the text of a here-document, the line so far.
    line: Option<String>,
}

impl ScriptReading {
    fn next(&mut self, character: char) {
        let within = self.open.last().copied();
        if self.line.is_some() {
            return self.next_of_document(character);
        }
        if within == Some(ScriptPlace::SingleQuotes) {
            if character == '\'' {
                self.leave();
            } else {
                self.name(character);
            }
            return;
        }
        if std::mem::take(&mut self.escaped) {
            self.name(character);
            return self.in_a_word();
        }
        if character == '\n' && within != Some(ScriptPlace::DoubleQuotes) {
            if within == Some(ScriptPlace::Comment) {
                self.leave();
            }
            self.end_name();
            self.line = (!self.documents.is_empty()).then(String::new);
        } else if within == Some(ScriptPlace::Comment) {
            return;
        }
        let quoted = within == Some(ScriptPlace::DoubleQuotes);
        if !quoted && ends_word(character) {
            self.end_word(character);
        }
        let within = self.open.last().copied();
        let dollar = std::mem::replace(&mut self.dollar, character == '$');
        let arrows = std::mem::take(&mut self.arrows);
        let calculates = std::mem::take(&mut self.begins)
            || (within == Some(ScriptPlace::Arithmetic) && !dollar);
        if self.takes(character, quoted, dollar, arrows, calculates) {
            return;
        }
        let is_quoted = self.open.last() == Some(&ScriptPlace::DoubleQuotes);
        self.in_word = is_quoted || !ends_word(character);
        if self.in_word {
            self.word.push(character);
        }
    }

    /// Takes a character that is neither escaped nor in single quotes or a comment. Says whether no word
    /// can go on or begin with it.
    fn takes(
        &mut self,
        character: char,
        quoted: bool,
        dollar: bool,
        arrows: usize,
        calculates: bool,
    ) -> bool {
        let within = self.open.last().copied();
        match character {
            '\\' => {
                self.escaped = true;
                return true;
            }
            '\'' if !quoted => self.open.push(ScriptPlace::SingleQuotes),
            '"' if quoted => self.leave(),
            '"' => self.open.push(ScriptPlace::DoubleQuotes),
            '(' if calculates => self.open.push(ScriptPlace::Arithmetic),
            '(' if dollar || !quoted => {
                self.begins = dollar;
                self.open.push(ScriptPlace::Brackets);
                self.word.clear();
                self.after_command = false;
            }
            ')' if matches!(
                within,
                Some(ScriptPlace::Brackets | ScriptPlace::Arithmetic)
            ) =>
            {
                self.leave();
                self.after_command = true;
            }
            '#' if !quoted && !self.in_word => {
                self.open.push(ScriptPlace::Comment);
                return true;
            }
            ')' if within == Some(ScriptPlace::Case) => {}
            '<' if !quoted && within != Some(ScriptPlace::Arithmetic) => {
                self.arrows = arrows + 1;
                // Three of them are no document.
                self.naming = (self.arrows == 2).then(String::new);
            }
            '-' if arrows == 2 => {}
            ' ' | '\t' if self.naming.as_deref() == Some("") => {}
            _ if quoted || !ends_word(character) => self.name(character),
            _ => self.end_name(),
        }
        false
    }

    fn next_of_document(&mut self, character: char) {
        let line = self.line.get_or_insert_default();
        if character != '\n' {
            return line.push(character);
        }
        let line = std::mem::take(line);
        // After `<<-` the end may be indented.
        if self
            .documents
            .front()
            .is_some_and(|end| line.trim_start_matches('\t') == end)
        {
            self.documents.pop_front();
        }
        self.line = (!self.documents.is_empty()).then(String::new);
    }

    /// Notes the word before a character, which ends it.
    fn end_word(&mut self, character: char) {
        let word = std::mem::take(&mut self.word);
        if !self.after_command {
            match word.as_str() {
                "case" => {
                    self.open.push(ScriptPlace::Case);
                    self.expects_in = true;
                }
                "esac" if self.open.last() == Some(&ScriptPlace::Case) => self.leave(),
                _ => {}
            }
            let goes_on = [
                "", "{", "!", "if", "then", "elif", "else", "while", "until", "do",
            ];
            self.after_command = !goes_on.contains(&word.as_str());
        }
        let begins_patterns = word == "in" && std::mem::take(&mut self.expects_in);
        if begins_patterns || !matches!(character, ' ' | '\t' | '<' | '>') {
            self.after_command = false;
        }
    }

    fn hole(&mut self) {
        self.in_a_word();
        // Nobody knows what a line with a hole is, or an end that a hole names: no line is that
        // end.
        self.line.iter_mut().for_each(|line| line.push('\0'));
        self.name('\n');
    }

    fn leave(&mut self) {
        self.open.pop();
    }

    fn in_a_word(&mut self) {
        (self.dollar, self.begins, self.arrows, self.in_word) = (false, false, 0, true);
        // No word of the shell itself.
        self.word.push('_');
    }

    fn name(&mut self, character: char) {
        if let Some(name) = &mut self.naming {
            name.push(character);
        }
    }

    fn end_name(&mut self) {
        self.documents
            .extend(self.naming.take().filter(|name| !name.is_empty()));
    }
}

/// Whether a character that is in no quotes ends a word.
fn ends_word(character: char) -> bool {
    matches!(
        character,
        ' ' | '\t' | '\n' | ';' | '&' | '|' | '(' | ')' | '<' | '>'
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Where holes are (`_` for each) in a script cut before each `\`: in double quotes (`"`), in a
    /// here-document (`<`) or in neither (`-`).
    fn holes(script: &str) -> String {
        let mut pieces = Vec::new();
        for (i, part) in script.split('_').enumerate() {
            if i > 0 {
                let piece = WordPiece::Literal("".into());
                pieces.push(ShellPiece::Hole {
                    piece,
                    inside: false,
                });
            }
            let cuts = part
                .match_indices('\\')
                .map(|(at, _)| at)
                .chain([part.len()]);
            let mut from = 0;
            for cut in cuts {
                pieces.push(ShellPiece::Literal(part[from..cut].into()));
                from = cut;
            }
        }
        let in_documents = note_quotes(&mut pieces);
        let inside = pieces.iter().filter_map(|piece| match piece {
            ShellPiece::Hole { inside, .. } => Some(*inside),
            ShellPiece::Literal(_) => None,
        });
        let all =
            inside
                .enumerate()
                .map(|(at, inside)| match (in_documents.contains(&at), inside) {
                    (true, _) => '<',
                    (false, true) => '"',
                    (false, false) => '-',
                });
        all.collect()
    }

    #[test]
    fn holes_are_between_quotes_as_a_shell_reads_them() {
        for (script, wanted) in [
            (r#"echo _ "a_b" _"#, "-\"-"),
            (r#"echo "x$(printf '\377')" > _"#, "-"),
            (r#"echo 'a\' > _; echo "\"_" _"#, "-\"-"),
            (r#"echo 'a "b' "it's _" _"#, "\"-"),
            (r#"echo "$(cat _ "_")_" _"#, "-\"\"-"),
            (r#"echo "(_" \" _ \' _"#, "\"--"),
            ("echo a # it's \"\necho _ \"_\"", "-\""),
            ("echo a# \"_\" $# \"_\"", "\"\""),
            ("cat << END > _\nit's \"_\nEND\necho \"_\" _", "-<\"-"),
            ("cat <<-'E N' <<\\B\n _\n\tE N\n_\nB\necho _", "<<-"),
            ("cat << _\n_\n_", "-<<"),
            ("cat <<< \"_\" <_ \n _", "\"--"),
            (
                r#"x="$(case $1 in a) echo _;; (b|c) echo "_"; esac; echo case a) _" _"#,
                "-\"\"-",
            ),
            (
                "if case a in esac; then\n(case b in\nc) echo \")_\" _;;\nesac) fi; echo \"_\" _",
                "\"-\"-",
            ),
            ("echo $((1 << 2)) $(( (1) << 3 ))\n_ \"_\"", "-\""),
        ] {
            assert_eq!(holes(script), wanted, "{script}");
        }
    }
}
