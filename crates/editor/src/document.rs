//! A text as an editor has it: parsed, with places as the protocol counts them.

use std::sync::Arc;

use lsp_types::{Position, Range};
use nubrik_lang::meanings::{TokenInTree, each_token};
use nubrik_source::{Sources, WsPath};
use nubrik_syntax::{Node, Parse, SyntaxKind, Token, parse, views};

/// An open text.
pub struct OpenText {
    /// Where it is in the workspace.
    pub path: WsPath,
    pub text: Arc<str>,
    pub parsed: Parse,
    /// Where each line begins, in bytes.
    starts: Vec<usize>,
}

impl OpenText {
    pub fn new(path: WsPath, text: String) -> OpenText {
        let text: Arc<str> = text.into();
        let mut starts = vec![0];
        starts.extend(text.match_indices('\n').map(|(at, _)| at + 1));
        let file = Sources::default().add(path.as_str(), text.clone());
        let parsed = parse(file, &text);
        OpenText {
            path,
            text,
            parsed,
            starts,
        }
    }

    /// A byte as a line and units of UTF-16 in it, as the protocol counts.
    pub fn position(&self, byte: usize) -> Position {
        let byte = byte.min(self.text.len());
        let line = self.starts.partition_point(|start| *start <= byte) - 1;
        let before = self.text.get(self.starts[line]..byte).unwrap_or("");
        Position {
            line: line as u32,
            character: before.encode_utf16().count() as u32,
        }
    }

    pub fn range(&self, from: usize, to: usize) -> Range {
        Range {
            start: self.position(from),
            end: self.position(to),
        }
    }

    /// The byte at a place; the end of the line, or of the text, where the place is behind it.
    pub fn byte(&self, position: Position) -> usize {
        let Some(start) = self.starts.get(position.line as usize) else {
            return self.text.len();
        };
        let end = self
            .starts
            .get(position.line as usize + 1)
            .map_or(self.text.len(), |next| next - 1);
        let mut units = position.character as usize;
        for (at, c) in self.text[*start..end].char_indices() {
            if units < c.len_utf16() {
                return start + at;
            }
            units -= c.len_utf16();
        }
        end
    }

    /// The declaration of a name.
    pub fn declaration(&self, name: &str) -> Option<Node<'_>> {
        let mut all = self
            .parsed
            .tree
            .root()
            .children()
            .filter(|node| node.kind().is_declaration());
        all.find(|node| views::declared_name(*node).is_some_and(|own| node.token_text(own) == name))
    }

    /// Where a name is declared.
    pub fn declared(&self, name: &str) -> Option<Token> {
        views::declared_name(self.declaration(name)?)
    }

    /// What the comments say that document the declaration at a byte.
    pub fn documentation(&self, byte: usize) -> String {
        let before = self.text.get(..byte).unwrap_or_default();
        let lines = before
            .lines()
            .rev()
            .take_while(|line| line.starts_with('#'));
        let mut lines: Vec<&str> = lines.filter_map(|line| line.strip_prefix("## ")).collect();
        lines.reverse();
        lines.join("\n")
    }

    /// The path of a file that a `use` names in this one.
    pub fn beside(&self, text: &str) -> Option<WsPath> {
        let folder = self.path.parent().unwrap_or_else(WsPath::root);
        match text.strip_prefix('/') {
            Some(from_root) => WsPath::root().resolve(from_root).ok(),
            None => folder.resolve(text).ok(),
        }
    }

    /// The token at a byte, with what is around it: of two that meet there, the one that is a name.
    pub fn token_at(&self, byte: usize) -> Option<TokenInTree<'_>> {
        let mut found: Option<TokenInTree<'_>> = None;
        each_token(self.parsed.tree.root(), &mut |at| {
            if (at.token.start as usize..=at.token.end as usize).contains(&byte) {
                let is_name = |kind| {
                    matches!(
                        kind,
                        SyntaxKind::Word | SyntaxKind::Ref | SyntaxKind::TextPart
                    )
                };
                if found.is_none_or(|before| !is_name(before.token.kind) || is_name(at.token.kind))
                {
                    found = Some(at);
                }
            }
        });
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_counted_as_the_protocol_does() {
        let document = OpenText::new(
            WsPath::from_normal("targets.nub"),
            "let ä = \"🌊x\"\nlet b = 2\n".to_owned(),
        );
        for byte in [0, 4, 6, 9, 13, 14, 16] {
            let is_there = document.text.is_char_boundary(byte);
            assert!(
                !is_there || document.byte(document.position(byte)) == byte,
                "{byte}"
            );
        }
        // The wave takes two units.
        assert_eq!(
            document.position(14),
            Position {
                line: 0,
                character: 11
            }
        );
        assert_eq!(
            document.byte(Position {
                line: 0,
                character: 99
            }),
            16
        );
        assert_eq!(
            document.byte(Position {
                line: 9,
                character: 0
            }),
            document.text.len()
        );
    }
}
