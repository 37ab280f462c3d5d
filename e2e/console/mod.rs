//! The console in a real browser, as people use it.

mod access;
mod acts;
mod broken;
mod browser;
mod captures;
mod keyboard;
mod lists;
mod looks;
mod maps;
mod mending;
mod overview;
mod submit;
mod webhooks;
mod x12;
