//! Any bytes, cut into any pieces: nothing panics, and how they are cut changes nothing. What was found is acknowledged,
//! and each acknowledgment reads as an interchange.
#![no_main]

use libfuzzer_sys::fuzz_target;
use wirewatch_x12::ack::{AckForm, AckStyle, Stamp, acknowledgments, functional_ack, interchange_ack};
use wirewatch_x12::{Definitions, Limits, Reader};

fuzz_target!(|input: (u8, &[u8])| {
    let (piece, bytes) = input;
    let whole = Reader::read(Definitions::standard(), bytes);
    let mut reader = Reader::new(Definitions::standard(), Limits::default());
    bytes.chunks(usize::from(piece) + 1).for_each(|piece| reader.feed(piece));
    assert_eq!(reader.finish(), whole);
    let stamp = Stamp { interchange_control: 1, group_control: 1, date: "20261123".into(), time: "0700".into() };
    for interchange in &whole.interchanges {
        let _ = Reader::read(Definitions::standard(), &interchange_ack(interchange, &stamp));
        for group in &interchange.groups {
            for form in [AckForm::Functional, AckForm::Implementation] {
                let style = AckStyle { form, ..AckStyle::default() };
                let bytes = functional_ack(&interchange.header, group, style, &stamp);
                assert_eq!(Reader::read(Definitions::standard(), &bytes).interchanges.len(), 1);
                for one in acknowledgments(&bytes) {
                    assert!(!one.sentences().is_empty());
                }
            }
        }
    }
});
