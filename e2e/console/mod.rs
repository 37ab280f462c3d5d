//! The console in a real browser, as people use it.

mod access;
mod acts;
mod broken;
mod browser;
mod fire;
mod keyboard;
mod lists;
mod looks;
mod maps;
mod mending;
mod strands;
mod trays;
mod webhooks;
mod x12;
