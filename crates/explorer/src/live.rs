//! A build that runs: what it tells of itself, line by line, and the page that shows it.
//!
//! An explorer listens at a socket in the workspace's own folder. A build that finds one tells it
//! what happens; one that finds none loses nothing but a look.

use std::collections::{HashMap, VecDeque};
use std::time::{Duration, Instant};

use maud::{Markup, html};
use nubrik_wording::{counted, duration};
use parking_lot::{Condvar, Mutex};
use serde::{Deserialize, Serialize};

use crate::look::{SitePage, state};
use crate::pages::sources::text_of;
use crate::site::Site;

/// The name of the socket, in the workspace's own folder.
pub const SOCKET: &str = "explore.sock";

/// So many steps that ended are shown.
const ENDED: usize = 40;

/// So many steps that wait are shown, and of each so many that it waits for.
const WAITING: usize = 40;
const NEEDS: usize = 3;

/// So many steps that run are shown.
const RUNNING: usize = 60;

/// What a build tells: one of these as JSON in each line.
#[derive(Clone, PartialEq, Debug, Serialize, Deserialize)]
#[serde(tag = "told", rename_all = "snake_case")]
pub enum LiveTold {
    /// It begins.
    Began {
        /// How many steps it needs.
        steps: usize,
        /// These steps, each behind those that it needs; none of a build with very many.
        waits: Vec<LiveWaiting>,
    },
    /// A step begins.
    Runs {
        /// Its folder, by which it is known.
        folder: String,
        /// Its target, with its variant.
        target: String,
        /// What it does.
        say: String,
        /// Why.
        reason: String,
    },
    /// Another machine runs it.
    Elsewhere {
        /// The step's folder.
        folder: String,
        /// What the machine is called.
        machine: String,
    },
    /// The image that it runs in is being put together, or that is over.
    Unpacks {
        /// The step's folder.
        folder: String,
        /// Whether it is over.
        is_over: bool,
    },
    /// A step is done with.
    Done {
        /// The step's folder.
        folder: String,
        /// Its target, with its variant.
        target: String,
        /// What it does.
        say: String,
        /// What became of it.
        state: String,
        /// Why.
        reason: String,
        /// How long it ran, in microseconds.
        micros: u64,
        /// What it printed, if it failed.
        printed: Option<String>,
    },
}

/// A step that a build needs.
#[derive(Clone, PartialEq, Debug, Serialize, Deserialize)]
pub struct LiveWaiting {
    /// Its folder, by which it is known.
    pub folder: String,
    /// Its target, with its variant.
    pub target: String,
    /// What it does.
    pub say: String,
    /// The steps that it needs, by their places in the list.
    pub needs: Vec<u32>,
}

struct StepThatRuns {
    folder: String,
    target: String,
    say: String,
    reason: String,
    machine: Option<String>,
    unpacks: bool,
    since: Instant,
}

struct StepThatEnded {
    target: String,
    say: String,
    state: String,
    reason: String,
    micros: u64,
}

/// A build as far as it reported of itself.
struct LiveBuild {
    since: Instant,
    steps: usize,
    done: usize,
    current: usize,
    failed: Vec<(String, String, String, String)>,
    running: Vec<StepThatRuns>,
    /// All its steps, where they were reported, and which of them were begun, and are done with.
    waits: Vec<LiveWaiting>,
    places: HashMap<String, usize>,
    begun: Vec<bool>,
    over: Vec<bool>,
    ended: VecDeque<StepThatEnded>,
    /// How long it took, once it is over.
    took: Option<Duration>,
}

/// What is known of the build that runs, or ran last.
#[derive(Default)]
pub(crate) struct LiveBoard {
    build: Mutex<(u64, Option<LiveBuild>)>,
    changed: Condvar,
}

impl LiveBoard {
    fn change(&self, change: impl FnOnce(&mut Option<LiveBuild>)) {
        let mut build = self.build.lock();
        build.0 += 1;
        change(&mut build.1);
        drop(build);
        self.changed.notify_all();
    }

    /// Hears a line of a build. What cannot be read is passed over.
    pub fn hear(&self, line: &str) {
        let Ok(told) = serde_json::from_str::<LiveTold>(line) else {
            return;
        };
        self.change(|build| match told {
            LiveTold::Began { steps, waits } => {
                let places = waits
                    .iter()
                    .enumerate()
                    .map(|(place, step)| (step.folder.clone(), place));
                *build = Some(LiveBuild {
                    places: places.collect(),
                    begun: vec![false; waits.len()],
                    over: vec![false; waits.len()],
                    waits,
                    since: Instant::now(),
                    steps,
                    done: 0,
                    current: 0,
                    failed: Vec::new(),
                    running: Vec::new(),
                    ended: VecDeque::new(),
                    took: None,
                });
            }
            other => {
                if let Some(build) = build {
                    build.hear(other);
                }
            }
        });
    }

    /// The build that reported something said its last.
    pub fn is_over(&self) {
        self.change(|build| {
            if let Some(build) = build {
                build.running.clear();
                build.took.get_or_insert(build.since.elapsed());
            }
        });
    }

    /// Waits until something changed since a number that this gave; at most so long. Gives the
    /// number now.
    pub fn wait(&self, seen: u64, most: Duration) -> u64 {
        let mut build = self.build.lock();
        self.changed
            .wait_while_for(&mut build, |build| build.0 == seen, most);
        build.0
    }

    /// What the page holds that changes.
    pub fn part(&self, site: &Site) -> Markup {
        let build = self.build.lock();
        match &build.1 {
            None => {
                html! { p { "No build is running. Start one, and it appears here: " code { "nubrik build" } } }
            }
            Some(build) => build.markup(site),
        }
    }

    /// The page of a build that runs.
    pub fn page(&self, site: &Site) -> SitePage {
        let body = html! {
            h1 { "Live" }
            noscript { p.lead { a href="live.html" { "Look again" } } }
            div #live aria-live="off" { (self.part(site)) }
        };
        SitePage {
            title: "Live".to_owned(),
            part: "live.html",
            body,
        }
    }
}

impl LiveBuild {
    fn hear(&mut self, told: LiveTold) {
        match told {
            LiveTold::Began { .. } => {}
            LiveTold::Runs {
                folder,
                target,
                say,
                reason,
            } => {
                if let Some(place) = self.places.get(&folder) {
                    self.begun[*place] = true;
                }
                self.running.retain(|running| running.folder != folder);
                self.running.push(StepThatRuns {
                    folder,
                    target,
                    say,
                    reason,
                    machine: None,
                    unpacks: false,
                    since: Instant::now(),
                });
            }
            LiveTold::Elsewhere { folder, machine } => {
                if let Some(running) = self.running_in(&folder) {
                    running.machine = Some(machine);
                }
            }
            LiveTold::Unpacks { folder, is_over } => {
                if let Some(running) = self.running_in(&folder) {
                    running.unpacks = !is_over;
                }
            }
            LiveTold::Done {
                folder,
                target,
                say,
                state,
                reason,
                micros,
                printed,
            } => {
                self.running.retain(|running| running.folder != folder);
                if let Some(place) = self.places.get(&folder) {
                    self.over[*place] = true;
                }
                self.done += 1;
                if state == "failed" {
                    let printed = printed.unwrap_or_default();
                    self.failed
                        .push((target.clone(), say.clone(), reason.clone(), printed));
                }
                if state == "current" {
                    self.current += 1;
                    return;
                }
                self.ended.push_front(StepThatEnded {
                    target,
                    say,
                    state,
                    reason,
                    micros,
                });
                self.ended.truncate(ENDED);
            }
        }
    }

    /// The step of a folder, while it runs.
    fn running_in(&mut self, folder: &str) -> Option<&mut StepThatRuns> {
        let mut running = self.running.iter_mut();
        running.find(|running| running.folder == folder)
    }

    /// Steps that wait, those first that wait for nothing but a free place: each with what it waits
    /// for.
    fn queue(&self) -> Vec<(&LiveWaiting, Vec<&LiveWaiting>)> {
        let waiting =
            (0..self.waits.len()).filter(|place| !self.begun[*place] && !self.over[*place]);
        let mut queue: Vec<(&LiveWaiting, Vec<&LiveWaiting>)> = waiting
            .map(|place| {
                let step = &self.waits[place];
                let needs = step.needs.iter().map(|need| *need as usize);
                let open = needs.filter(|need| !self.over.get(*need).is_none_or(|over| *over));
                (step, open.filter_map(|need| self.waits.get(need)).collect())
            })
            .collect();
        queue.sort_by_key(|(_, open)| open.len());
        queue
    }

    fn queue_markup(&self, link: &dyn Fn(&str) -> Markup) -> Markup {
        let queue = if self.took.is_some() {
            Vec::new()
        } else {
            self.queue()
        };
        html! {
            @if !queue.is_empty() {
                h2 { "Waiting" }
                div.scroll { table {
                    thead { tr { th scope="col" { "Target" } th scope="col" { "Step" } th scope="col" { "Waits for" } } }
                    tbody { @for (step, open) in queue.iter().take(WAITING) {
                        tr {
                            td { (link(&step.target)) } td.say { (step.say) }
                            td {
                                @if open.is_empty() { "a free place" }
                                @for (n, need) in open.iter().take(NEEDS).enumerate() { @if n > 0 { ", " } (link(&need.target)) " " span.say { (need.say) } }
                                @if open.len() > NEEDS { " and " (open.len() - NEEDS) " more" }
                            }
                        }
                    } }
                } }
                @if queue.len() > WAITING { p.lead { "and " (queue.len() - WAITING) " more" } }
            }
        }
    }

    fn markup(&self, site: &Site) -> Markup {
        let took = self
            .took
            .unwrap_or_else(|| self.since.elapsed())
            .as_micros() as u64;
        let waiting = self.steps.saturating_sub(self.done + self.running.len());
        let link = |target: &str| {
            html! { @match site.page_of_title(target) { Some(page) => { a.name href=(page) { (target) } }, None => { span.name { (target) } } } }
        };
        html! {
            p {
                @if self.took.is_some() { "The last build: " } @else { span.state.run { "A build runs" } ": " }
                (self.done) " of " (counted(self.steps, "step")) ", " (self.running.len()) " run, " (waiting) " wait"
                @if !self.failed.is_empty() { ", " (state("failed")) ": " (self.failed.len()) }
                ", " (duration(took))
            }
            progress max=(self.steps.max(1)) value=(self.done) aria-label="Steps that are done" {}
            @for (target, say, reason, printed) in &self.failed {
                div.step { h3 { (link(target)) " " span.say { (say) } } p { (state("failed")) " " (reason) } pre.wrap { (text_of(printed.as_bytes(), 32 << 10)) } }
            }
            @if !self.running.is_empty() {
                h2 { "At work" }
                div.scroll { table {
                    thead { tr { th scope="col" { "Target" } th scope="col" { "Step" } th.number scope="col" { "For" } th scope="col" { "Where" } th scope="col" { "Waits for it" } th scope="col" { "Why" } } }
                    tbody { @for running in self.running.iter().take(RUNNING) {
                        tr {
                            td { (link(&running.target)) } td.say { (running.say) }
                            td.number { (duration(running.since.elapsed().as_micros() as u64)) }
                            td { (running.machine.as_deref().unwrap_or("here")) @if running.unpacks { ", unpacking its image" } }
                            td { (users(site, &running.target)) }
                            td { (running.reason) }
                        }
                    } }
                } }
                @if self.running.len() > RUNNING { p.lead { "and " (self.running.len() - RUNNING) " more" } }
            }
            (self.queue_markup(&link))
            @if !self.ended.is_empty() {
                h2 { "Done" }
                div.scroll { table {
                    thead { tr { th scope="col" { "State" } th scope="col" { "Target" } th scope="col" { "Step" } th.number scope="col" { "Took" } th scope="col" { "Why" } } }
                    tbody { @for ended in &self.ended {
                        tr { td { (state(&ended.state)) } td { (link(&ended.target)) } td.say { (ended.say) } td.number { @if ended.micros > 0 { (duration(ended.micros)) } } td { (ended.reason) } }
                    } }
                } }
            }
        }
    }
}

/// How many targets wait for one.
fn users(site: &Site, title: &str) -> Markup {
    let address = title.split(" (").next().unwrap_or(title);
    let count = site
        .find(address)
        .map_or(0, |id| site.users[id.index()].len());
    html! { @if count > 0 { (counted(count, "target")) } }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    fn line(told: &LiveTold) -> String {
        serde_json::to_string(told).unwrap()
    }

    #[test]
    fn a_build_is_followed_by_what_it_tells() {
        let board = LiveBoard::default();
        let (folder, target, say) = ("f".to_owned(), "tide/fit".to_owned(), "compile".to_owned());
        let reason = "never built here".to_owned();
        board.hear("no JSON");
        let waiting = |folder: &str, needs: &[u32]| LiveWaiting {
            folder: folder.to_owned(),
            target: format!("tide/{folder}"),
            say: "compile".to_owned(),
            needs: needs.to_vec(),
        };
        let waits = vec![waiting("f", &[]), waiting("g", &[0]), waiting("h", &[])];
        board.hear(&line(&LiveTold::Began { steps: 3, waits }));
        let runs = LiveTold::Runs {
            folder: folder.clone(),
            target: target.clone(),
            say: say.clone(),
            reason: reason.clone(),
        };
        board.hear(&line(&runs));
        board.hear(&line(&LiveTold::Elsewhere {
            folder: folder.clone(),
            machine: "mill".to_owned(),
        }));
        let seen = board.wait(0, Duration::ZERO);
        {
            let build = board.build.lock();
            let build = build.1.as_ref().unwrap();
            assert_eq!(
                (build.running.len(), build.running[0].machine.as_deref()),
                (1, Some("mill"))
            );
            // The one that waits for nothing but a place comes first.
            let queue = build.queue();
            let queue: Vec<_> = queue
                .iter()
                .map(|(step, open)| (&*step.folder, open.len()))
                .collect();
            assert_eq!(queue, [("h", 0), ("g", 1)]);
        }
        let state = "failed".to_owned();
        let printed = Some("no water".to_owned());
        board.hear(&line(&LiveTold::Done {
            folder,
            target,
            say,
            state,
            reason,
            micros: 7,
            printed,
        }));
        assert!(board.wait(seen, Duration::ZERO) > seen);
        board.is_over();
        let build = board.build.lock();
        let build = build.1.as_ref().unwrap();
        assert_eq!(
            build
                .queue()
                .iter()
                .map(|(_, open)| open.len())
                .collect::<Vec<_>>(),
            [0, 0]
        );
        assert_eq!(
            (
                build.done,
                build.failed.len(),
                build.running.len(),
                build.took.is_some()
            ),
            (1, 1, 0, true)
        );
    }
}
