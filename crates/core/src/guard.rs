//! Catches panics of our own code, so that they fail only the work that they happen in.

use std::panic::{AssertUnwindSafe, catch_unwind};

/// Returns the result of `work`, or a sentence if it panics. The process's panic hook reports the place.
///
/// For work over one document that changes nothing unless it completes.
///
/// # Errors
/// The panic's message.
pub fn guarded<T>(work: impl FnOnce() -> T) -> Result<T, String> {
    catch_unwind(AssertUnwindSafe(work)).map_err(|panic| {
        let own = panic.downcast_ref::<&str>().map(|text| (*text).to_owned());
        let own = own.or_else(|| panic.downcast_ref::<String>().cloned()).unwrap_or_default();
        format!("a fault of Wire Watch, not of the document: {own}; please report it, with the document")
    })
}

#[cfg(test)]
mod tests {
    use super::guarded;

    #[test]
    fn what_breaks_is_reported_and_what_does_not_is_given() {
        assert_eq!(guarded(|| 7), Ok(7));
        let says = guarded(|| -> u8 { panic!("no {}", "way") }).unwrap_err();
        assert!(says.contains("no way") && says.contains("please report it"), "{says}");
        assert!(guarded(|| std::panic::panic_any(7)).is_err());
    }
}
