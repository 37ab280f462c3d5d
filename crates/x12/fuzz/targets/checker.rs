//! One set of any bytes against every definition: nothing panics, and each finding lies in the bytes it speaks of.
#![no_main]

use libfuzzer_sys::fuzz_target;
use wirewatch_x12::{Definitions, Delimiters, check_set};

fuzz_target!(|input: (bool, &[u8])| {
    let (repeats, bytes) = input;
    let delimiters = Delimiters { repetition: repeats.then_some(b'^'), ..Delimiters::default() };
    for definition in Definitions::standard().all() {
        for fault in check_set(definition, bytes, delimiters).faults {
            assert!(fault.at.start <= fault.at.end && fault.at.end <= bytes.len() as u64, "{fault:?}");
        }
    }
});
