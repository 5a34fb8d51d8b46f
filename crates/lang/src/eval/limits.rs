//! How much one evaluation may take.

use nubrik_diagnostic::Diagnostic;
use nubrik_source::Span;

use super::{Evaluator, Result};

/// How many expressions one evaluation may take: definitions that need more have gone astray.
pub(super) const WORK_LIMIT: u64 = 100_000_000;

/// So much work is done between two looks whether evaluation is to end: some milliseconds.
pub(super) const WORK_BETWEEN_LOOKS: u64 = 200_000;

/// How many bytes of text count as one expression: what all values together may hold is limited,
/// too.
pub(super) const BYTES_OF_WORK: usize = 16;

/// How many expressions the memory of one text more counts as: of texts without end there would
/// soon be gigabytes.
pub(super) const WORK_OF_TEXT: u64 = 6;

/// How many bytes a text may have.
pub(super) const TEXT_LIMIT: usize = 16 << 20;

/// How many items a list may have.
pub(super) const LIST_LIMIT: usize = 4 << 20;

/// How deep values may need one another.
pub(super) const DEPTH_LIMIT: usize = 2_000;

/// How deep values may hold one another.
pub(super) const NESTING_LIMIT: usize = 200;

impl Evaluator<'_> {
    /// Counts an expression, and stops definitions that take too much work.
    pub(super) fn count_work(&mut self, span: Span) -> Result<()> {
        self.count(1, span)
    }

    /// Stops values in values without end: a map whose entries are the same map under other
    /// options.
    pub(super) fn check_nesting(&mut self, depth: usize, span: Span) -> Result<()> {
        if depth < NESTING_LIMIT {
            return Ok(());
        }
        self.fail(
            span,
            Diagnostic::error("too-deep", "this value contains itself without end"),
        )
    }

    /// Counts items of lists that are gone through: lists may hold the same list many times over,
    /// so that going through them takes far more than writing them did.
    pub(super) fn count_items(&mut self, items: usize, span: Span) -> Result<()> {
        self.count(items as u64 * 2 + 1, span)
    }

    /// Makes sure that a list of so many items may be made, and counts them: before the items are
    /// there.
    pub(super) fn room_for_items(&mut self, items: usize, span: Span) -> Result<()> {
        if items > LIST_LIMIT {
            let error = Diagnostic::error("too-large", "this list grows too large");
            return self.fail(
                span,
                error.note(format!("a list may have {LIST_LIMIT} items")),
            );
        }
        self.count_items(items, span)
    }

    /// Makes sure that a list of so many new texts may be made, and counts them. Each takes memory
    /// of its own, where other items most often share theirs.
    pub(super) fn room_for_texts(&mut self, texts: usize, span: Span) -> Result<()> {
        self.room_for_items(texts, span)?;
        self.count(texts as u64 * WORK_OF_TEXT, span)
    }

    /// Makes sure that a text of so many bytes may be made, and counts them.
    pub(super) fn room_for_text(&mut self, bytes: usize, span: Span) -> Result<()> {
        if bytes > TEXT_LIMIT {
            let error = Diagnostic::error("too-large", "this text grows too large");
            return self.fail(span, error.note("a text may have 16 MiB"));
        }
        self.count((bytes / BYTES_OF_WORK) as u64, span)
    }

    /// Counts work or the size of a value, in expressions.
    #[inline]
    pub(super) fn count(&mut self, amount: u64, span: Span) -> Result<()> {
        let before = self.budget.work;
        self.budget.work += amount;
        if self.budget.work < self.budget.next_look {
            Ok(())
        } else {
            self.look_up(before, span)
        }
    }

    /// Looks whether somebody wants evaluation to end, and whether it took too much.
    #[cold]
    fn look_up(&mut self, before: u64, span: Span) -> Result<()> {
        if self.budget.work >= self.budget.work_limit {
            return self.too_much_work(before, span);
        }
        if self.world.is_stopped() {
            // All that is evaluated from here on stops, too.
            self.budget.work_limit = self.budget.work;
            return self.fail(
                span,
                Diagnostic::error("interrupted", "evaluation was interrupted"),
            );
        }
        self.budget.look_later();
        Ok(())
    }

    #[cold]
    pub(super) fn too_much_work(&mut self, before: u64, span: Span) -> Result<()> {
        if before < self.budget.work_limit {
            let error = Diagnostic::error(
                "too-much-work",
                "these definitions take too long to evaluate",
            );
            let error = error.note(format!(
                "the limit is {} expressions, of which {BYTES_OF_WORK} bytes of text count as one",
                self.budget.work_limit
            ));
            return self.fail(span, error);
        }
        self.failed_before(span)
    }
}
