//! Small simulated outside systems: scriptable, with faults on request. Nothing here knows of the service.

pub mod chat;
mod dates;
pub mod marrowfield;
pub mod order_system;
pub mod shop;
pub mod warehouse;

use dates::{days_from_today, today};
