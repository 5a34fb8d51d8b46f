//! Workers: machines that run steps for others. Both ends are here: a [`Crew`] sends the steps of a
//! build as signed jobs, and a [`WorkPlace`] does jobs of others, as a confined build of one step.
//! Both talk over an exchange ([`Boss`], [`Hand`]), and what is made goes by the shared cache.
//!
//! Threads and tokio of the exchange do not leave `exchange/`.

mod crew;
mod exchange;
mod job;
mod meter;
mod place;
mod serving;
mod trouble;
mod turns;

pub use crew::{Crew, NamedTools, ask_for_tools};
pub use exchange::{
    Alive, AskedQuestion, Boss, BossNews, ExchangePlace, ExchangeTrouble, Hand, MachineKind,
    TakenJob, is_pool,
};
pub use job::{JOBS, RefusedMessage, WORKERS, is_worker_name};
pub use meter::WorkEnd;
pub use place::{DoneJob, JobClient, NotDone, OpenedJob, PlaceOwner, ToolTeller, WorkPlace};
pub use serving::{SharedRenewal, WorkSite, WorkedJob, WorkerListener};
pub use trouble::WorkersTrouble;
pub use turns::{Turn, Turns};
