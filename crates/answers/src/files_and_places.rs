//! Files that a command wrote, tidied or saw change, and places where something is to be had: for
//! programs.

use serde::Serialize;

/// A report in one of its forms, printed or written to a file.
#[derive(Serialize)]
pub struct ReportEvent<'a> {
    event: &'static str,
    form: &'static str,
    to: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    text: Option<&'a str>,
}

impl<'a> ReportEvent<'a> {
    /// A report that is in the event.
    pub fn printed(form: &'static str, text: &'a str) -> ReportEvent<'a> {
        ReportEvent {
            event: "report",
            form,
            to: None,
            text: Some(text),
        }
    }

    /// A report in a file.
    pub fn written(form: &'static str, to: &'a str) -> ReportEvent<'a> {
        ReportEvent {
            event: "report",
            form,
            to: Some(to),
            text: None,
        }
    }
}

/// An image that was handed to a registry.
#[derive(Serialize)]
pub struct PushedEvent<'a> {
    event: &'static str,
    digest: &'a str,
    sent: usize,
    known: usize,
}

impl<'a> PushedEvent<'a> {
    /// The event about an image with a digest, of which so many blobs were sent, and so many were
    /// there before.
    pub fn of(digest: &'a str, sent: usize, known: usize) -> PushedEvent<'a> {
        PushedEvent {
            event: "pushed",
            digest,
            sent,
            known,
        }
    }
}

/// Pages of a workspace that were written to a folder.
#[derive(Serialize)]
pub struct WrittenEvent<'a> {
    event: &'static str,
    to: &'a str,
    pages: usize,
}

impl WrittenEvent<'_> {
    /// The event about so many pages, of which the first one is in a file.
    pub fn of(to: &str, pages: usize) -> WrittenEvent<'_> {
        WrittenEvent {
            event: "written",
            to,
            pages,
        }
    }
}

/// Manual pages that were written to a folder.
#[derive(Serialize)]
pub struct ManualEvent<'a> {
    event: &'static str,
    folder: &'a str,
    pages: usize,
}

impl ManualEvent<'_> {
    /// The event about so many pages.
    pub fn of(folder: &str, pages: usize) -> ManualEvent<'_> {
        ManualEvent {
            event: "manual",
            folder,
            pages,
        }
    }
}

/// The address of the explorer's first page.
#[derive(Serialize)]
pub struct ExplorerEvent<'a> {
    event: &'static str,
    address: &'a str,
}

impl ExplorerEvent<'_> {
    /// The event about an address.
    pub fn of(address: &str) -> ExplorerEvent<'_> {
        ExplorerEvent {
            event: "explorer",
            address,
        }
    }
}

/// A service that runs, and its place.
#[derive(Serialize)]
pub struct ServingEvent<'a> {
    event: &'static str,
    target: &'a str,
    at: &'a str,
}

impl<'a> ServingEvent<'a> {
    /// The event about a service at a place.
    pub fn of(target: &'a str, at: &'a str) -> ServingEvent<'a> {
        ServingEvent {
            event: "serving",
            target,
            at,
        }
    }
}

/// A file of definitions that is not in its usual form, or was not.
#[derive(Serialize)]
pub struct FormattedEvent<'a> {
    event: &'static str,
    file: &'a str,
    state: &'static str,
}

impl<'a> FormattedEvent<'a> {
    /// The event about a file; its state is `untidy` or `tidied`.
    pub fn of(file: &'a str, state: &'static str) -> FormattedEvent<'a> {
        FormattedEvent {
            event: "formatted",
            file,
            state,
        }
    }
}

/// Files that changed while somebody watches.
#[derive(Serialize)]
pub struct ChangedEvent<'a> {
    event: &'static str,
    files: &'a [String],
}

impl ChangedEvent<'_> {
    /// The event about files, by their paths from the root.
    pub fn of(files: &[String]) -> ChangedEvent<'_> {
        ChangedEvent {
            event: "changed",
            files,
        }
    }
}
