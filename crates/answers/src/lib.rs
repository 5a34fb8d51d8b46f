//! Answers to questions about a workspace, as data: a target and its relations, why steps would
//! run, the dependency path between two targets, a plan and its forecast, chosen tests, builds of
//! before, and the state of the machine.
//!
//! Each answer is found once here. The terminal and the events for programs show it; neither finds
//! it again. An answer that is an event is written as `docs/formats.md` says.

mod affected;
mod build_events;
mod caches;
mod causes;
mod choices;
mod chosen;
mod covered;
mod dependency_path;
mod examination;
mod files_and_places;
mod history;
mod listing;
mod meant;
mod not_taken;
mod pinned;
mod plans;
mod ran_again;
mod shared_news;
mod targets;
mod team;
mod test_parts;
mod tests_ran;
mod time_left;
mod topics;
mod trace;
mod trees;
mod unevaluated;

pub use affected::{Affected, SkippedEvent};
pub use build_events::{
    BeganEvent, DiagnosticEvent, JobEvent, NoticeEvent, RefusedEvent, ResultEvent, StepEvent,
    SummaryEvent, ends_well, failed_command, wrote,
};
pub use caches::{CacheAmount, CacheEvent, CacheFileEvent, PrunedEvent, SharedVerifiedEvent};
pub use causes::{Cause, Differs, LastRun, WhyAnswer};
pub use choices::{OptionEvent, ProfileEvent, options_with};
pub use chosen::{ChosenTests, LeftOut, NoSuchTests, TestsWanted, tests_of};
pub use covered::{
    ChangedSince, CoverageEvent, CoverageSumEvent, Covered, accounts_of_lines, keep_lines,
    kept_lines, test_path,
};
pub use dependency_path::{Hop, NoPath, dependency_path};
pub use examination::{Finding, examine, is_of_machine};
pub use files_and_places::{
    ChangedEvent, ExplorerEvent, FormattedEvent, ManualEvent, PushedEvent, ReportEvent,
    ServingEvent, WrittenEvent,
};
pub use history::{BuildEvent, StepTime, dearest, kept_builds};
pub use listing::{
    EntryCounts, KindEvent, ListedCase, NothingOfThat, TargetEvent, TargetsOf, TestCases, kinds_of,
};
pub use meant::{runnable, targets_of_file};
pub use not_taken::{NotTaken, NotTakenEvent, OtherResult};
pub use pinned::{
    FetchedArchives, ListedPinEvent, NewerEvent, PassedOverEvent, PinChain, PinEvent,
};
pub use plans::{ForecastEvent, PlanCounts, PlanEvent, chain_of, foreseen, planned_word};
pub use ran_again::{
    KnownPaths, ObservedEvent, VerifiedEvent, first_difference, is_amiss, sums_of,
};
pub use shared_news::{
    SOON, SharedEvent, SharedHealth, SharedNews, SharedState, SharedStateEvent, age, is_old, now,
    until_expiry,
};
pub use targets::{DetailEvent, PrintedEvent, TargetAnswer, TargetAnswers};
pub use team::{
    AgreementEvent, MetricsEvent, RanElsewhere, WorkedEvent, WorkerEvent, given_labels,
};
pub use test_parts::{MergedEvent, PartEvent};
pub use tests_ran::{
    FlakyTest, Round, TestEnd, TestEvent, TestResult, TestSummaryEvent, flaky_tests,
};
pub use time_left::{PastTimes, TimeForecast};
pub use topics::{
    CATEGORIES, TopicEvent, all_topics, guesses, has_topic, reference, topic_near, topics_about,
};
pub use trace::trace_of;
pub use trees::{TreeNodeEvent, TreeShape};
pub use unevaluated::{Unevaluated, UnevaluatedEvent, error_lines, errors_of};

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests;

/// Seconds of an event: to the millisecond, as they are written.
pub fn rounded(seconds: f64) -> f64 {
    // Adding nothing makes the nought of an empty sum one without a sign.
    (seconds * 1000.0).round() / 1000.0 + 0.0
}

/// Microseconds as the seconds of an event.
pub fn seconds(micros: u64) -> f64 {
    rounded(micros as f64 / 1e6)
}
