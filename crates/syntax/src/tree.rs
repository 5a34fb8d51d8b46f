//! The lossless tree: nodes and tokens in flat arrays; the tokens in order, with the white space
//! between them, are the text.

use std::sync::Arc;

use crate::SyntaxKind;
use crate::lexer::Lexed;

/// A node's number in its tree.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct NodeId(pub u32);

impl NodeId {
    /// Its place among all.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// A token: its kind and its range of bytes in the text.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Token {
    /// What it is.
    pub kind: SyntaxKind,
    /// First byte.
    pub start: u32,
    /// First byte after it.
    pub end: u32,
}

/// A child of a node.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Element {
    /// An inner node.
    Node(NodeId),
    /// A leaf.
    Token(Token),
}

#[derive(Clone, Copy)]
struct NodeData {
    kind: SyntaxKind,
    start: u32,
    end: u32,
    first: u32,
    count: u32,
}

/// A parsed text.
pub struct Tree {
    text: Arc<str>,
    nodes: Vec<NodeData>,
    elements: Vec<Element>,
}

impl Tree {
    /// The node for the whole text.
    pub fn root(&self) -> Node<'_> {
        Node {
            tree: self,
            id: NodeId(self.nodes.len() as u32 - 1),
        }
    }

    /// How many nodes have a value.
    pub fn expression_count(&self) -> usize {
        self.nodes.iter().filter(|n| n.kind.is_expression()).count()
    }

    /// The text that was parsed.
    pub fn text(&self) -> &Arc<str> {
        &self.text
    }

    /// Puts the text together again from the tokens and what is between them; always equal to
    /// [`Tree::text`].
    pub fn print(&self) -> String {
        let mut out = String::with_capacity(self.text.len());
        let mut open: Vec<_> = vec![self.root().elements().collect::<Vec<_>>().into_iter()];
        while let Some(elements) = open.last_mut() {
            match elements.next() {
                None => drop(open.pop()),
                Some(Element::Token(token)) => {
                    out.push_str(&self.text[out.len()..token.start as usize]);
                    out.push_str(self.root().token_text(token));
                }
                Some(Element::Node(id)) => {
                    open.push(
                        self.root()
                            .node(id)
                            .elements()
                            .collect::<Vec<_>>()
                            .into_iter(),
                    );
                }
            }
        }
        out.push_str(&self.text[out.len()..]);
        out
    }
}

/// A node with its tree.
#[derive(Clone, Copy)]
pub struct Node<'t> {
    tree: &'t Tree,
    id: NodeId,
}

impl<'t> Node<'t> {
    fn data(self) -> NodeData {
        self.tree.nodes[self.id.index()]
    }

    /// What it is.
    pub fn kind(self) -> SyntaxKind {
        self.data().kind
    }

    /// Its range of bytes without outer white space.
    pub fn range(self) -> (usize, usize) {
        (self.data().start as usize, self.data().end as usize)
    }

    /// Its words.
    pub fn text(self) -> &'t str {
        let (start, end) = self.range();
        &self.tree.text[start..end]
    }

    /// The words of one of its tokens.
    pub fn token_text(self, token: Token) -> &'t str {
        &self.tree.text[token.start as usize..token.end as usize]
    }

    /// The whole text before one of its tokens.
    pub fn text_before(self, token: Token) -> &'t str {
        self.text_between(0, token.start)
    }

    /// What is in the text from one byte to another.
    pub(crate) fn text_between(self, start: u32, end: u32) -> &'t str {
        &self.tree.text[start as usize..end as usize]
    }

    /// Nodes and tokens in order.
    pub fn elements(self) -> impl ExactSizeIterator<Item = Element> + 't {
        let data = self.data();
        self.tree.elements[data.first as usize..(data.first + data.count) as usize]
            .iter()
            .copied()
    }

    /// Inner nodes in order.
    pub fn children(self) -> impl Iterator<Item = Node<'t>> + 't {
        self.elements().filter_map(move |e| match e {
            Element::Node(id) => Some(Node {
                tree: self.tree,
                id,
            }),
            Element::Token(_) => None,
        })
    }

    /// Its own tokens in order, without those of inner nodes.
    pub fn tokens(self) -> impl Iterator<Item = Token> + 't {
        self.elements().filter_map(|e| match e {
            Element::Token(token) => Some(token),
            Element::Node(_) => None,
        })
    }

    /// The node that an element of this node is.
    pub fn node(self, id: NodeId) -> Node<'t> {
        Node {
            tree: self.tree,
            id,
        }
    }

    /// The first inner node of a kind.
    pub fn child(self, kind: SyntaxKind) -> Option<Node<'t>> {
        self.children().find(|n| n.kind() == kind)
    }

    /// The `n`th inner node (from 0) that has a value.
    pub fn expression(self, n: usize) -> Option<Node<'t>> {
        self.children().filter(|c| c.kind().is_expression()).nth(n)
    }

    /// The first inner node that is a type.
    pub fn type_node(self) -> Option<Node<'t>> {
        self.children().find(|c| c.kind().is_type())
    }

    /// The first token of a kind.
    pub fn token(self, kind: SyntaxKind) -> Option<Token> {
        self.tokens().find(|t| t.kind == kind)
    }

    /// Its own words (tokens of kind [`SyntaxKind::Word`]) in order.
    pub fn words(self) -> impl Iterator<Item = Token> + 't {
        self.tokens().filter(|t| t.kind == SyntaxKind::Word)
    }
}

/// Builds a [`Tree`] bottom-up: children wait on a stack until their node is finished.
pub(crate) struct Builder {
    stack: Vec<Element>,
    nodes: Vec<NodeData>,
    elements: Vec<Element>,
}

impl Builder {
    /// For so many tokens.
    pub fn new(tokens: usize) -> Self {
        Builder {
            stack: Vec::with_capacity(64),
            nodes: Vec::with_capacity(tokens / 2),
            elements: Vec::with_capacity(tokens * 3 / 2),
        }
    }

    /// How many elements wait on the stack.
    #[inline]
    pub fn waiting(&self) -> usize {
        self.stack.len()
    }

    #[inline]
    pub fn token(&mut self, kind: SyntaxKind, start: u32, end: u32) {
        self.stack.push(Element::Token(Token { kind, start, end }));
    }

    /// Makes everything on the stack from `children` on the children of a new node, whose words
    /// reach from one byte to another.
    #[inline]
    pub fn finish(&mut self, children: usize, kind: SyntaxKind, start: u32, end: u32) {
        let first = self.elements.len() as u32;
        self.elements.extend_from_slice(&self.stack[children..]);
        self.stack.truncate(children);
        let count = self.elements.len() as u32 - first;
        self.nodes.push(NodeData {
            kind,
            start,
            end,
            first,
            count,
        });
        self.stack
            .push(Element::Node(NodeId(self.nodes.len() as u32 - 1)));
    }

    /// Adds a node that consists of a few tokens, none of them to pass over.
    pub fn node_of_tokens(&mut self, kind: SyntaxKind, tokens: &[Lexed]) {
        let (Some(first), Some(last)) = (tokens.first(), tokens.last()) else {
            return;
        };
        let (start, end) = (first.start, last.end);
        let (first, count) = (self.elements.len() as u32, tokens.len() as u32);
        let elements = tokens.iter().map(|t| {
            Element::Token(Token {
                kind: t.kind,
                start: t.start,
                end: t.end,
            })
        });
        self.elements.extend(elements);
        self.nodes.push(NodeData {
            kind,
            start,
            end,
            first,
            count,
        });
        self.stack
            .push(Element::Node(NodeId(self.nodes.len() as u32 - 1)));
    }

    /// The tree; the last finished node must be its root.
    pub fn tree(self, text: Arc<str>) -> Tree {
        Tree {
            text,
            nodes: self.nodes,
            elements: self.elements,
        }
    }
}
