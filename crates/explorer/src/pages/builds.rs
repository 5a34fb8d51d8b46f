//! Builds of the past.

use maud::{Markup, html};
use nubrik_session::{BuildRecord, SharedRecord, StepRecord};
use nubrik_wording::{counted, duration, size};

use crate::links::{About, page};
use crate::look::{SitePage, state, when};
use crate::pages::timeline::timeline;
use crate::site::Site;

/// More steps than this are not listed in one page.
const STEPS: usize = 2_000;

/// How a build ended, in a word.
pub(crate) fn end_of(build: &BuildRecord) -> &'static str {
    match () {
        () if build.cancelled => "stopped",
        () if build.counts.failed > 0 => "failed",
        () => "done",
    }
}

fn end(build: &BuildRecord) -> Markup {
    let word = end_of(build);
    let class = match word {
        "failed" => "state failed",
        "done" => "state passed",
        _ => "state unstarted",
    };
    html! { span class=(class) { (word) } }
}

/// Rows about builds.
pub(crate) fn build_rows<'b>(site: &Site, builds: impl Iterator<Item = &'b BuildRecord>) -> Markup {
    let (known, now) = (site.builds(), site.now());
    html! {
        div.scroll { table {
            thead { tr {
                th scope="col" { "Build" } th scope="col" { "When" } th scope="col" { "Result" } th.number scope="col" { "Took" } th.number scope="col" { "Ran" }
                th.number scope="col" { "Reused" } th.number scope="col" { "Failed" } th scope="col" { "Targets" }
            } }
            tbody {
                @for build in builds {
                    tr {
                        td { a href=(page(About::Build, &build.build.to_string())) { (build.build) }
                            @if let Some(before) = before(known, build.build) {
                                " " a.lead href=(page(About::Compared, &format!("{}-{before}", build.build))) title="Compared with the one before" { "±" span.unseen { " compared with build " (before) } }
                            }
                        }
                        td { (when(build.began, now)) }
                        td { (end(build)) }
                        td.number { (duration(build.micros)) } td.number { (build.counts.ran) } td.number { (build.counts.reused) } td.number { (build.counts.failed) }
                        td { (build.request()) }
                    }
                }
            }
        } }
    }
}

/// The build before another one, of those that are remembered.
pub(crate) fn before(known: &[BuildRecord], number: u64) -> Option<u64> {
    let at = known.iter().position(|build| build.build == number)?;
    at.checked_sub(1).map(|before| known[before].build)
}

pub(crate) fn builds(site: &Site) -> SitePage {
    let all = site.builds();
    let body = html! {
        h1 { "Builds" }
        @if all.is_empty() { p { "Nothing was built here yet: " code { "nubrik build" } } }
        @else {
            p.lead { "The last " (counted(all.len(), "build")) " (builds with nothing to do are left out)." }
            (build_rows(site, all.iter().rev()))
        }
    };
    SitePage {
        title: "Builds".to_owned(),
        part: "builds.html",
        body,
    }
}

/// A step's title, a link where the target is still there.
pub(crate) fn title(site: &Site, step: &StepRecord) -> Markup {
    html! {
        @match site.page_of_title(&step.target) {
            Some(page) => { a.name href=(page) { (step.target) } },
            None => { span.name { (step.target) } },
        }
    }
}

/// What failed first, with what it printed and how to repeat it.
pub(crate) fn failures(build: &BuildRecord, title: &dyn Fn(&StepRecord) -> Markup) -> Markup {
    let failed: Vec<&StepRecord> = build
        .done
        .iter()
        .filter(|step| step.state == "failed")
        .collect();
    html! {
        @if !failed.is_empty() {
            h2 { (counted(failed.len(), "failure")) }
            @for step in failed {
                div.step {
                    h3 { (title(step)) " " span.say { (step.say) } }
                    p { (state(&step.state)) " " (step.why()) @if let Some(machine) = &step.machine { ", on " (machine) } }
                    @match step.printed.as_deref().map(str::trim_end) {
                        Some("") => { p.lead { "It printed nothing." } },
                        Some(printed) => { pre.wrap { (crate::pages::sources::text_of(printed.as_bytes(), 64 << 10)) } },
                        None => {},
                    }
                    p { "Reproduce: " code { (repeat(step)) } }
                }
            }
        }
    }
}

/// The command that runs a step again.
pub(crate) fn repeat(step: &StepRecord) -> String {
    let (address, variant) = step.target.split_once(" (").unwrap_or((&step.target, ""));
    let options = variant
        .trim_end_matches(')')
        .split(", ")
        .filter(|option| !option.is_empty());
    let set: String = options
        .map(|option| format!(" --set {}", nubrik_graph::shown_word(option)))
        .collect();
    match &step.test {
        Some(test) => format!(
            "nubrik test {address}{set} --filter {}",
            nubrik_graph::shown_word(test)
        ),
        None => format!("nubrik build {address}{set}"),
    }
}

/// What became of a build, in numbers.
pub(crate) fn sums(build: &BuildRecord, now: Option<u64>) -> Markup {
    html! {
        dl.facts {
            dt { "Result" } dd { (end(build)) ", " (when(build.began, now)) ", after " (duration(build.micros)) }
            dt { "Targets" } dd { (build.request()) }
            dt { "Steps" }
            dd { (build.counts.sentence()) }
            @if let Some(shared) = build.shared.filter(|shared| *shared != SharedRecord::default()) {
                dt { "Team's store" }
                dd {
                    (counted(shared.taken, "result")) " taken: " (size(shared.moved)) " came, " (duration(shared.saved_micros)) " of work saved"
                    @for (count, why) in shared.not_taken() { "; not taken: " (count) " " (why) }
                }
            }
        }
    }
}

/// Steps that were not current.
pub(crate) fn steps(build: &BuildRecord, title: &dyn Fn(&StepRecord) -> Markup) -> Markup {
    let rank = |step: &StepRecord| match step.state.as_str() {
        "failed" => 0,
        "blocked" => 1,
        _ => 2,
    };
    let mut done: Vec<&StepRecord> = build.done.iter().collect();
    done.sort_by_key(|step| rank(step));
    html! {
        @if !done.is_empty() {
            h2 { "Steps" }
            div.scroll { table {
                thead { tr { th scope="col" { "State" } th scope="col" { "Target" } th scope="col" { "Step" } th.number scope="col" { "Began" } th.number scope="col" { "Took" } th scope="col" { "Why" } } }
                tbody {
                    @for step in done.iter().take(STEPS) {
                        tr {
                            td { (state(&step.state)) }
                            td { (title(step)) }
                            td.say { (step.say) }
                            td.number { @if step.micros > 0 { (duration(step.from)) } }
                            td.number { @if step.micros > 0 { (duration(step.micros)) } }
                            td { @if let Some(machine) = &step.machine { "on " (machine) ": " } (step.reason) }
                        }
                    }
                }
            } }
            @if done.len() > STEPS { p.lead { "and " (done.len() - STEPS) " more: " code { "nubrik history --json " (build.build) } } }
        }
    }
}

pub(crate) fn build(site: &Site, number: &str) -> Option<SitePage> {
    let number: u64 = number.parse().ok()?;
    let build = site.builds().iter().find(|build| build.build == number)?;
    let title = |step: &StepRecord| title(site, step);
    let body = html! {
        h1 { "Build " (number) }
        (sums(build, site.now()))
        @if let Some(before) = before(site.builds(), number) {
            p { a href=(page(About::Compared, &format!("{number}-{before}"))) { "Compared with build " (before) } }
        }
        (failures(build, &title))
        @if let Some(picture) = timeline(build) { h2 { "Timeline" } div.scroll { (picture) } }
        (steps(build, &title))
    };
    Some(SitePage {
        title: format!("Build {number}"),
        part: "builds.html",
        body,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn step(target: &str, test: Option<&str>) -> StepRecord {
        StepRecord {
            target: target.to_owned(),
            say: "compile".to_owned(),
            state: "failed".to_owned(),
            reason: String::new(),
            from: 0,
            micros: 0,
            machine: None,
            key: None,
            test: test.map(str::to_owned),
            failure: None,
            code: None,
            printed: None,
        }
    }

    #[test]
    fn a_command_repeats_the_step_with_its_options() {
        assert_eq!(repeat(&step("tide/fit", None)), "nubrik build tide/fit");
        assert_eq!(
            repeat(&step("tide/fit (mode=release)", None)),
            "nubrik build tide/fit --set mode=release"
        );
        assert_eq!(
            repeat(&step("tide/fit", Some("tide/fit/spring low"))),
            "nubrik test tide/fit --filter 'tide/fit/spring low'"
        );
    }
}
