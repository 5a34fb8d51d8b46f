//! Machines that run steps for others, and what a person agreed to.

use nubrik_session::{Agreement, Session};
use nubrik_workers::{Alive, WorkedJob};
use serde::Serialize;

use crate::rounded;

/// A worker of a pool, for programs.
#[derive(Serialize)]
pub struct WorkerEvent<'a> {
    event: &'static str,
    name: &'a str,
    slots: usize,
    busy: usize,
    machine: &'a str,
    labels: &'a [String],
    #[serde(skip_serializing_if = "Option::is_none")]
    away: Option<&'a str>,
}

impl WorkerEvent<'_> {
    /// The event about a worker.
    pub fn of(alive: &Alive) -> WorkerEvent<'_> {
        let Alive {
            name,
            slots,
            busy,
            machine,
            labels,
            away,
        } = alive;
        let (slots, busy, away) = (*slots, *busy, away.as_deref());
        WorkerEvent {
            event: "worker",
            name,
            slots,
            busy,
            machine,
            labels,
            away,
        }
    }
}

/// The labels of a worker that were given to it, besides those that every machine has.
pub fn given_labels(alive: &Alive) -> Vec<&str> {
    let labels: Vec<_> = alive
        .labels
        .iter()
        .map(|label| label.as_str().into())
        .collect();
    let own = nubrik_graph::platform_of(&labels).map(str::to_owned);
    alive
        .labels
        .iter()
        .filter(|label| !own.contains(label))
        .map(String::as_str)
        .collect()
}

/// Where monitoring systems ask a worker, for programs.
#[derive(Serialize)]
pub struct MetricsEvent<'a> {
    event: &'static str,
    url: &'a str,
}

impl MetricsEvent<'_> {
    /// The event about an address.
    pub fn of(url: &str) -> MetricsEvent<'_> {
        MetricsEvent {
            event: "metrics",
            url,
        }
    }
}

/// A step that a worker ran, or gave up, for programs.
#[derive(Serialize)]
pub struct WorkedEvent<'a> {
    event: &'static str,
    say: &'a str,
    build: &'a str,
    state: &'static str,
    end: &'static str,
    seconds: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    why: Option<&'a str>,
}

impl<'a> WorkedEvent<'a> {
    /// The event about a job that is over.
    pub fn of(job: &WorkedJob<'a>) -> WorkedEvent<'a> {
        WorkedEvent {
            event: "worked",
            say: job.say,
            build: job.build,
            state: if job.why_not.is_none() {
                "ran"
            } else {
                "gave_up"
            },
            end: job.end.word(),
            seconds: rounded(job.took.as_secs_f64()),
            why: job.why_not,
        }
    }
}

/// The part of a build that other machines had.
#[derive(Serialize)]
pub struct RanElsewhere {
    event: &'static str,
    /// How many steps they ran.
    pub ran: usize,
    /// How many of them are there now.
    pub machines: usize,
    /// Why some steps were handed back.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub refused: Option<String>,
}

impl RanElsewhere {
    /// The part of the builds of a session; nothing where it asks no other machines.
    pub fn of(session: &Session) -> Option<RanElsewhere> {
        let crew = session.crew()?;
        let (ran, machines, refused) = (
            session.ran_elsewhere(),
            crew.present().len(),
            crew.refused(),
        );
        Some(RanElsewhere {
            event: "workers",
            ran,
            machines,
            refused,
        })
    }
}

/// What a workspace asks of a person, for programs.
#[derive(Serialize)]
pub struct AgreementEvent {
    event: &'static str,
    asked: String,
    agreed: bool,
}

impl AgreementEvent {
    /// The event about something that is asked, and whether the person agreed to it.
    pub fn of(asked: &Agreement, agreed: bool) -> AgreementEvent {
        AgreementEvent {
            event: "agreement",
            asked: asked.to_string(),
            agreed,
        }
    }
}
