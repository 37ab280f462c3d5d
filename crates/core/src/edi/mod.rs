//! X12 documents for people and programs: findings, summaries, differences, and as JSON.

pub mod acknowledge;
pub mod diff;
pub mod draft;
pub mod page;
pub mod report;
pub mod summary;
pub mod tree;
pub mod write;

pub use diff::{Difference, differences};
pub use report::Report;
pub use summary::Summary;
