//! Two builds side by side.

use std::collections::BTreeMap;

use maud::{Markup, html};
use nubrik_session::{BuildRecord, StepRecord};
use nubrik_wording::duration;

use crate::links::{About, page};
use crate::look::{SitePage, state};
use crate::pages::builds::title;
use crate::site::Site;

/// So many steps are listed of each kind of difference.
const LISTED: usize = 200;

type StepsByName<'b> = BTreeMap<(&'b str, &'b str), &'b StepRecord>;

fn steps(build: &BuildRecord) -> StepsByName<'_> {
    build
        .done
        .iter()
        .map(|step| ((step.target.as_str(), step.say.as_str()), step))
        .collect()
}

/// The builds that a name means: `12-11`.
fn pair<'s>(site: &'s Site, name: &str) -> Option<(&'s BuildRecord, &'s BuildRecord)> {
    let (one, other) = name.split_once('-')?;
    let find = |number: &str| {
        let number: u64 = number.parse().ok()?;
        site.builds().iter().find(|build| build.build == number)
    };
    Some((find(one)?, find(other)?))
}

pub(crate) fn compared(site: &Site, name: &str) -> Option<SitePage> {
    let (one, other) = pair(site, name)?;
    let (of_one, of_other) = (steps(one), steps(other));
    let only_one: Vec<_> = of_one
        .iter()
        .filter(|(key, _)| !of_other.contains_key(*key))
        .map(|(_, s)| *s)
        .collect();
    let only_other: Vec<_> = of_other
        .iter()
        .filter(|(key, _)| !of_one.contains_key(*key))
        .map(|(_, s)| *s)
        .collect();
    let mut both: Vec<(&StepRecord, &StepRecord)> = of_one
        .iter()
        .filter_map(|(key, step)| Some((*step, *of_other.get(key)?)))
        .collect();
    both.sort_by_key(|(a, b)| std::cmp::Reverse(a.micros.abs_diff(b.micros)));
    let (a, b) = (one.build, other.build);
    let body = html! {
        h1 { "Builds " (a) " and " (b) }
        div.scroll { table {
            thead { tr { th scope="col" { "" } th.number scope="col" { a href=(page(About::Build, &a.to_string())) { "Build " (a) } } th.number scope="col" { a href=(page(About::Build, &b.to_string())) { "Build " (b) } } } }
            tbody {
                tr { th scope="row" { "Targets" } td.number { (one.request()) } td.number { (other.request()) } }
                tr { th scope="row" { "Took" } td.number { (duration(one.micros)) } td.number { (duration(other.micros)) } }
                tr { th scope="row" { "Steps needed" } td.number { (one.counts.steps) } td.number { (other.counts.steps) } }
                tr { th scope="row" { "Ran" } td.number { (one.counts.ran) } td.number { (other.counts.ran) } }
                tr { th scope="row" { "Reused" } td.number { (one.counts.reused) } td.number { (other.counts.reused) } }
                tr { th scope="row" { "Failed" } td.number { (one.counts.failed) } td.number { (other.counts.failed) } }
            }
        } }
        (only(site, a, &only_one))
        (only(site, b, &only_other))
        @if !both.is_empty() {
            h2 { "In both" }
            div.scroll { table {
                thead { tr { th scope="col" { "Target" } th scope="col" { "Step" } th scope="col" { "Build " (a) } th.number scope="col" { "Took" } th scope="col" { "Build " (b) } th.number scope="col" { "Took" } th scope="col" { "Key" } } }
                tbody {
                    @for (one, other) in both.iter().take(LISTED) {
                        tr {
                            td { (title(site, one)) } td.say { (one.say) }
                            td { (state(&one.state)) } td.number { @if one.micros > 0 { (duration(one.micros)) } }
                            td { (state(&other.state)) } td.number { @if other.micros > 0 { (duration(other.micros)) } }
                            td { @match (&one.key, &other.key) { (Some(a), Some(b)) if a == b => "the same", (Some(_), Some(_)) => "another", _ => "" } }
                        }
                    }
                }
            } }
        }
    };
    Some(SitePage {
        title: format!("Builds {a} and {b}"),
        part: "builds.html",
        body,
    })
}

fn only(site: &Site, build: u64, steps: &[&StepRecord]) -> Markup {
    html! {
        @if !steps.is_empty() {
            h2 { "Only in build " (build) }
            div.scroll { table {
                thead { tr { th scope="col" { "State" } th scope="col" { "Target" } th scope="col" { "Step" } th.number scope="col" { "Took" } th scope="col" { "Why" } } }
                tbody {
                    @for step in steps.iter().take(LISTED) {
                        tr { td { (state(&step.state)) } td { (title(site, step)) } td.say { (step.say) } td.number { @if step.micros > 0 { (duration(step.micros)) } } td { (step.reason) } }
                    }
                }
            } }
            @if steps.len() > LISTED { p.lead { "and " (steps.len() - LISTED) " more" } }
        }
    }
}
