//! The running service: the engine with its journal and links, its intakes, and the API.
//!
//! [`serve`] runs all of it. Everything that a person or the console does goes through [`api`].

pub mod access;
pub mod api;
mod bulk;
mod captures;
mod console;
mod disk;
mod error;
mod folder;
mod hooks;
pub mod incidents;
mod intakes;
mod keep;
mod listen;
mod meters;
mod recordings;
mod releasing;
mod run;
mod sealed;
mod secrets;
mod supervised;
mod together;
pub mod view;

pub use error::ServeError;
pub use folder::{read_folder, read_workspace};
pub use run::{App, Config, Ready, serve};
