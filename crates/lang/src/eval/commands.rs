//! Commands with their holes filled: words, each of pieces.

use std::rc::Rc;
use std::sync::Arc;

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;
use smallvec::smallvec;

use super::{Evaluator, Result, Scope};
use crate::hir::*;
use crate::value::*;

impl Evaluator<'_> {
    pub(super) fn command(
        &mut self,
        scope: &Scope,
        command: &Command,
        span: Span,
    ) -> Result<Value> {
        let stages = self.all(&command.stages, |this, stage| this.stage(scope, stage))?;
        Ok(Value::Command(Rc::new(CommandValue { span, stages })))
    }

    fn stage(&mut self, scope: &Scope, stage: &CommandStage) -> Result<StageValue> {
        let mut filled = StageValue::default();
        let mut words = Vec::with_capacity(stage.words.len());
        let mut first = true;
        self.all(&stage.words, |this, word| {
            this.word(
                scope,
                word,
                std::mem::replace(&mut first, false),
                &mut words,
            )
        })?;
        filled.words = words;
        filled.stdin = self.redirect(scope, stage.stdin.as_ref())?;
        filled.stdout = self.redirect(scope, stage.stdout.as_ref())?;
        filled.stderr = self.redirect(scope, stage.stderr.as_ref())?;
        Ok(filled)
    }

    fn redirect(&mut self, scope: &Scope, word: Option<&Word>) -> Result<Option<FilledWord>> {
        let Some(word) = word else { return Ok(None) };
        let mut words = Vec::new();
        match word.pieces.as_slice() {
            // Most often one hole, which is one file.
            [piece] => match self.piece(scope, piece)? {
                WordSource::One(strands) => return Ok(Some((word.span, strands))),
                WordSource::Many(list) => words.extend(list.into_iter().map(|w| (word.span, w))),
            },
            _ => self.word(scope, word, false, &mut words)?,
        }
        match (words.pop(), words.is_empty()) {
            (Some(word), true) => Ok(Some(word)),
            _ => self.fail(
                word.span,
                Diagnostic::error("wrong-type", "expected one file after this redirect"),
            ),
        }
    }

    /// Adds the words that one written word becomes: several or none where a list is in it.
    fn word(
        &mut self,
        scope: &Scope,
        word: &Word,
        first: bool,
        filled: &mut Vec<FilledWord>,
    ) -> Result<()> {
        let module = self.module(scope.module);
        if let [piece] = word.pieces.as_slice() {
            let choice = match piece {
                // A first word with a field `call` represents that command's words.
                WordPiece::Value(expr) if first => {
                    let (value, span) = (self.eval(scope, *expr)?, module.span(*expr));
                    if let Some(words) = self.called_words(&value, span)? {
                        filled.extend(words);
                        return Ok(());
                    }
                    self.choice(value, span)?
                }
                _ => self.piece(scope, piece)?,
            };
            match choice {
                WordSource::One(strands) => filled.push((word.span, strands)),
                WordSource::Many(words) => filled.extend(words.into_iter().map(|w| (word.span, w))),
            }
            return Ok(());
        }
        let mut words: Vec<Strands> = vec![Strands::new()];
        let mut spread: Option<Span> = None;
        let choices = self.all(&word.pieces, |this, piece| this.piece(scope, piece))?;
        for (piece, choice) in word.pieces.iter().zip(choices) {
            match choice {
                WordSource::One(strands) => words
                    .iter_mut()
                    .for_each(|w| w.extend(strands.iter().cloned())),
                WordSource::Many(list) => {
                    let span = piece_expr(piece).map_or(word.span, |e| module.span(e));
                    if spread.replace(span).is_some() {
                        let error = Diagnostic::error(
                            "two-lists",
                            "two lists in one word: which goes with which is not clear",
                        );
                        return self.fail(span, error.mend("put the words together with `each`"));
                    }
                    words = words
                        .iter()
                        .flat_map(|before| {
                            list.iter()
                                .map(|item| before.iter().chain(item).cloned().collect())
                        })
                        .collect();
                }
            }
        }
        filled.extend(words.into_iter().map(|strands| (word.span, strands)));
        Ok(())
    }

    /// The words of the command in a record's field `call`.
    fn called_words(&mut self, value: &Value, span: Span) -> Result<Option<Vec<FilledWord>>> {
        let Value::Record(record) = value else {
            return Ok(None);
        };
        let Some(Value::Command(command)) = record.get("call") else {
            return Ok(None);
        };
        match command.stages.as_slice() {
            [stage] if stage.stdin.is_none() && stage.stdout.is_none() => {
                Ok(Some(stage.words.clone()))
            }
            _ => {
                let message = "a `call` with pipes or redirects cannot begin a command";
                self.fail(span, Diagnostic::error("wrong-type", message))
            }
        }
    }

    fn piece(&mut self, scope: &Scope, piece: &WordPiece) -> Result<WordSource> {
        let module = self.module(scope.module);
        let strand = match piece {
            WordPiece::Literal(text) => WordStrand::Literal(text.clone()),
            WordPiece::Value(expr) => {
                let value = self.eval(scope, *expr)?;
                return self.choice(value, module.span(*expr));
            }
            WordPiece::In(expr) => return self.inputs_piece(scope, *expr),
            WordPiece::ArgFile(expr) => {
                let value = self.eval(scope, *expr)?;
                let span = module.span(*expr);
                let files = self.coerce(value, &crate::types::Type::Files, scope.module, span)?;
                WordStrand::ArgFile(self.files_of(&files, span)?.into())
            }
            WordPiece::Out {
                name,
                path,
                folder,
                early,
            } => WordStrand::Out {
                span: module.span(*path),
                path: self.output_path(scope, *path)?,
                name: name.as_ref().map(|n| n.text.clone()),
                folder: *folder,
                early: *early,
            },
            WordPiece::DepFile { path } => WordStrand::DepFile {
                span: module.span(*path),
                path: self.output_path(scope, *path)?,
            },
            WordPiece::Scratch { path, folder } => WordStrand::Scratch {
                span: module.span(*path),
                path: self.output_path(scope, *path)?,
                folder: *folder,
            },
            WordPiece::Kept { path } => WordStrand::Kept {
                span: module.span(*path),
                path: self.output_path(scope, *path)?,
            },
            WordPiece::TextFile { path, text } => {
                let (span, text_span) = (module.span(*path), module.span(*text));
                let path = self.output_path(scope, *path)?;
                let value = self.eval(scope, *text)?;
                let text = self.text_of_file(value, text_span)?;
                WordStrand::TextFile { path, text, span }
            }
        };
        Ok(WordSource::One(smallvec![strand]))
    }

    /// The words of `{in …}`: one where one path is named, else one for each file.
    fn inputs_piece(&mut self, scope: &Scope, expr: ExprId) -> Result<WordSource> {
        let value = self.eval(scope, expr)?;
        let span = self.module(scope.module).span(expr);
        let is_path = |text: &Arc<str>| !crate::globs::is_pattern(text);
        let one = matches!(&value, Value::Text(text) if text.plain().is_some_and(is_path));
        let files = self.coerce(value, &crate::types::Type::Files, scope.module, span)?;
        let files = self.files_of(&files, span)?.into_iter();
        let mut words: Vec<Strands> = files
            .map(|file| smallvec![WordStrand::File(file)])
            .collect();
        match words.pop() {
            Some(word) if one => Ok(WordSource::One(word)),
            last => {
                words.extend(last);
                Ok(WordSource::Many(words))
            }
        }
    }

    /// A command for `/bin/sh`: one script, with every hole quoted.
    pub(super) fn shell(
        &mut self,
        scope: &Scope,
        pieces: &[ShellPiece],
        span: Span,
    ) -> Result<Value> {
        let module = self.module(scope.module);
        let script = self.all(pieces, |this, piece| match piece {
            ShellPiece::Literal(text) => Ok(vec![WordStrand::Literal(text.clone())]),
            ShellPiece::Hole { piece, inside } => {
                let quote = || WordStrand::Literal("\"".into());
                match this.piece(scope, piece)? {
                    WordSource::One(strands) => {
                        let word = WordStrand::Quoted(strands.into_vec());
                        Ok(if *inside {
                            vec![quote(), word, quote()]
                        } else {
                            vec![word]
                        })
                    }
                    WordSource::Many(words) if *inside => {
                        let place = piece_expr(piece).map_or(span, |e| module.span(e));
                        let error =
                            Diagnostic::error("two-lists", "a list cannot be between quotes")
                                .note(format!("it has {} words", words.len()))
                                .mend("….join(\" \")")
                                .mend("put it outside of the quotes");
                        this.fail(place, error)
                    }
                    WordSource::Many(words) => {
                        let mut strands = Vec::new();
                        for (i, word) in words.into_iter().enumerate() {
                            if i > 0 {
                                strands.push(WordStrand::Literal(" ".into()));
                            }
                            strands.push(WordStrand::Quoted(word.into_vec()));
                        }
                        Ok(strands)
                    }
                }
            }
        })?;
        let word = |text: &str| (span, smallvec![WordStrand::Literal(text.into())]);
        let words = vec![
            word("sh"),
            word("-eu"),
            word("-c"),
            (span, script.concat().into()),
        ];
        let stage = StageValue {
            words,
            ..StageValue::default()
        };
        Ok(Value::Command(Rc::new(CommandValue {
            span,
            stages: vec![stage],
        })))
    }

    /// What a file of a command's own holds: nothing that is known only while the command runs.
    fn text_of_file(&mut self, value: Value, span: Span) -> Result<Rc<[WordStrand]>> {
        let Value::Text(text) = value else {
            let message = format!("expected a text, found {}", value.described());
            let error = Diagnostic::error("wrong-type", message);
            let error = match value {
                Value::List(_) => error.mend("….join(\"\\n\")"),
                Value::Map(_) | Value::Record(_) => error.mend("….to_json"),
                _ => error,
            };
            return self.fail(span, error);
        };
        let strands = text.strands();
        let unknown = strands.iter().find(|strand| {
            matches!(
                strand,
                Strand::Secret(_) | Strand::Served(..) | Strand::Own(_)
            )
        });
        if let Some(unknown) = unknown {
            return self.fail(span, super::services::not_written(unknown));
        }
        Ok(strands.into_iter().map(WordStrand::from).collect())
    }

    /// A relative name inside a step's own folder.
    fn output_path(&mut self, scope: &Scope, expr: ExprId) -> Result<Arc<str>> {
        let span = self.module(scope.module).span(expr);
        let value = self.eval(scope, expr)?;
        let Value::Text(Text::Plain(text)) = &value else {
            let error = Diagnostic::error(
                "wrong-type",
                "the name of an output is a plain text: it carries no file",
            );
            return self.fail(span, error.mend("{….stem}").mend("{….path}"));
        };
        self.check_name(text, span)?;
        Ok(text.clone())
    }

    /// What a value puts into a word.
    fn choice(&mut self, value: Value, span: Span) -> Result<WordSource> {
        match value {
            Value::None => Ok(WordSource::Many(Vec::new())),
            Value::Text(Text::Plain(text)) => {
                Ok(WordSource::One(smallvec![WordStrand::Literal(text)]))
            }
            Value::Text(text) => Ok(WordSource::One(
                text.strands().into_iter().map(WordStrand::from).collect(),
            )),
            Value::Int(number) => Ok(WordSource::One(smallvec![WordStrand::Literal(
                number.to_string().into()
            )])),
            Value::File(file) => Ok(WordSource::One(smallvec![WordStrand::File(file)])),
            Value::Tool(tool) => Ok(WordSource::One(smallvec![WordStrand::Tool(tool)])),
            Value::List(items) => {
                self.count_items(items.len(), span)?;
                let mut words = Vec::with_capacity(items.len());
                self.all(&items, |this, item| {
                    match this.choice(item.clone(), span)? {
                        WordSource::One(strands) => words.push(strands),
                        WordSource::Many(list) => words.extend(list),
                    }
                    Ok(())
                })?;
                Ok(WordSource::Many(words))
            }
            Value::Bool(_) => {
                let error = Diagnostic::error("wrong-type", "a bool cannot be a word of a command");
                self.fail(span, error.mend("{if … then [\"--flag\"] else []}"))
            }
            Value::Service(_) => {
                let error =
                    Diagnostic::error("wrong-type", "a service cannot be a word of a command");
                self.fail(span, error.mend("{….address}").mend("{….port}"))
            }
            Value::Command(_) => {
                let error =
                    Diagnostic::error("wrong-type", "a command cannot be inside another one");
                self.fail(
                    span,
                    error.mend("run = [first, second] runs commands in order"),
                )
            }
            value => {
                if let Some(file) = self.lone_file(&value) {
                    return Ok(WordSource::One(smallvec![WordStrand::File(file.clone())]));
                }
                let files = self.files_of(&value, span)?;
                match files.as_slice() {
                    [file] => Ok(WordSource::One(smallvec![WordStrand::File(file.clone())])),
                    _ => Ok(WordSource::Many(
                        files
                            .into_iter()
                            .map(|f| smallvec![WordStrand::File(f)])
                            .collect(),
                    )),
                }
            }
        }
    }
}

/// One word's pieces, or a list of words.
enum WordSource {
    One(Strands),
    Many(Vec<Strands>),
}

fn piece_expr(piece: &WordPiece) -> Option<ExprId> {
    match piece {
        WordPiece::Value(expr) | WordPiece::In(expr) | WordPiece::ArgFile(expr) => Some(*expr),
        _ => None,
    }
}
