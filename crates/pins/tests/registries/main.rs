//! Pins from registries that are made up: folders, and a server that lies.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

mod go;
mod images;
mod java;
mod js;
mod plain;
mod python;
mod rust;
mod server;
mod shop;
