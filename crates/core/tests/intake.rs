//! The verdict on each kind of arrival, and its consequences.

mod common;

use wirewatch_core::document::{Content, Form, JSON_LIMIT};
use wirewatch_core::intake::{
    Decision, Known, LedgerKey, MAX_ARRIVAL, Provenance, Received, Seal, Verdict, decide_document, decide_x12,
};
use wirewatch_core::machine::{End, Logic, Machine, Next, Origin};
use wirewatch_core::workspace::{Files, Workspace};
use wirewatch_core::x12::ack::Stamp;
use wirewatch_core::x12::{Definitions, Reader, Reading};
use wirewatch_core::{Digest, Id};

fn content(bytes: &[u8]) -> Content {
    Content::new(bytes.to_vec(), None)
}

fn read(text: &str) -> (Vec<Received>, Reading) {
    let Reading { interchanges, unread } = Reader::read(Definitions::standard(), text.as_bytes());
    let digest = |range: &std::ops::Range<u64>| Digest::of(&[&text.as_bytes()[range.start as usize..range.end as usize]]);
    let received = interchanges.into_iter().map(|one| Received { digest: digest(&one.bytes), interchange: one }).collect();
    (received, Reading { interchanges: Vec::new(), unread })
}

fn provenance(connection: &str) -> Provenance {
    Provenance { connection: connection.to_owned(), name: "po.edi".to_owned(), ..Provenance::default() }
}

fn decide_in(workspace: &Workspace, text: &str, known: &[Known], accept: bool) -> Decision {
    let (received, unread) = read(text);
    decide_x12(workspace, &Provenance { accept, ..provenance("marrowfield-drop") }, &received, &unread, known)
}

fn decide(text: &str, known: &[Known], accept: bool) -> Decision {
    decide_in(&common::workspace(&common::files()), text, known, accept)
}

/// Messages, acknowledgments to seal, acknowledgments to send again, ledger rows.
fn follows(decision: &Decision) -> [usize; 4] {
    [decision.split.parts.len(), decision.seal.len(), decision.again.len(), decision.ledger.len()]
}

const SAME: fn() -> Known = || Known::Same { arrival: Id(5), acknowledgments: vec![Id(6), Id(7)] };

#[test]
fn control_numbers_that_were_left_out_are_reported_and_stop_nothing() {
    let says = |before: u64| {
        let decision = decide(common::SAMPLE, &[Known::No { before: Some(before) }], false);
        assert_eq!(decision.verdict, Verdict::Received);
        decision.says
    };
    assert_eq!(says(100), "", "000000101 follows it");
    assert_eq!(says(99), "interchange 000000100 from MARROWFIELD is missing");
    assert_eq!(says(97), "interchanges 000000098 to 000000100 from MARROWFIELD are missing");
}

#[test]
fn an_interchange_that_asks_for_it_is_acknowledged_itself_broken_or_not() {
    let asks = common::SAMPLE.replacen("*000000101*0*T", "*000000101*1*T", 1);
    let sets = |text: &str| decide(text, &[Known::NEW], false).seal.iter().map(Seal::set).collect::<Vec<_>>();
    assert_eq!(sets(common::SAMPLE), ["997"]);
    assert_eq!(sets(&asks), ["TA1", "997"]);
    let broken = asks.replacen("IEA*1*000000101", "IEA*1*000000102", 1);
    assert_eq!(sets(&broken), ["TA1"], "what is broken is not processed, and its sender gets an answer");
    let stamp = Stamp { interchange_control: 7, group_control: 0, date: "20261123".into(), time: "0701".into() };
    let bytes = decide(&broken, &[Known::NEW], false).seal[0].render(&stamp);
    assert!(String::from_utf8(bytes).unwrap().contains("~TA1*000000101*261123*0700*R*001~IEA*0*000000007~"));
}

#[test]
fn a_sound_interchange_splits_and_is_acknowledged() {
    let decision = decide(common::SAMPLE, &[Known::NEW], false);
    assert_eq!((decision.verdict, decision.says.as_str(), decision.partner.as_str()), (Verdict::Received, "", "marrowfield"));
    assert_eq!(follows(&decision), [2, 1, 0, 1]);
    let head = &decision.split.heads[0];
    assert_eq!(decision.split.heads.len(), 1, "what its orders have in common is variables once");
    assert_eq!((head.flow.as_str(), &head.meta["interchange"]), ("partner-orders", &"000000101".into()));
    let numbers: Vec<&str> = decision.split.parts.iter().map(|(_, _, number)| number.as_str()).collect();
    assert_eq!(numbers, ["0001", "0002"]);
    let (_, bytes, _) = &decision.split.parts[1];
    assert!(common::SAMPLE[bytes.start as usize..].starts_with("ST*850*0002~"));
    assert_eq!(decision.seal[0].to, "marrowfield-collect");
}

#[test]
fn a_repeat_sends_the_acknowledgment_again_and_nothing_else() {
    let decision = decide(common::SAMPLE, &[SAME()], false);
    assert_eq!((decision.verdict, follows(&decision)), (Verdict::Duplicate, [0, 0, 2, 0]));
    assert!(decision.says.contains("was received before"), "{}", decision.says);
}

#[test]
fn a_repeat_that_a_person_lets_through_is_booked_but_not_acknowledged_a_second_time() {
    let decision = decide(common::SAMPLE, &[SAME()], true);
    assert_eq!((decision.verdict, follows(&decision)), (Verdict::Received, [2, 0, 0, 0]));
}

#[test]
fn a_number_used_for_other_content_is_failed_until_a_person_says_otherwise() {
    let other = || Known::Other { arrival: Id(5) };
    let decision = decide(common::SAMPLE, &[other()], false);
    assert_eq!((decision.verdict, follows(&decision)), (Verdict::Failed, [0, 0, 0, 0]));
    assert!(decision.says.starts_with("control number 000000101 was used before with other content"), "{}", decision.says);
    assert_eq!(follows(&decide(common::SAMPLE, &[other()], true)), [2, 0, 0, 0]);
}

#[test]
fn one_bad_set_is_refused_and_the_other_goes_on() {
    let bad = common::SAMPLE.replacen("PO1*1*12*EA", "PO1*1*twelve*EA", 1);
    let decision = decide(&bad, &[Known::NEW], false);
    assert_eq!((decision.verdict, follows(&decision)), (Verdict::Received, [1, 1, 0, 1]));
    assert_eq!(decision.says, "group 101: 1 of 2 sets rejected: PO102 (Quantity Ordered): expected a number, found `twelve`");
}

#[test]
fn a_group_with_a_bad_envelope_is_refused_whole_and_acknowledged() {
    let bad = common::SAMPLE.replacen("GE*2*101", "GE*3*101", 1);
    let decision = decide(&bad, &[Known::NEW], false);
    assert_eq!((decision.verdict, follows(&decision)), (Verdict::Rejected, [0, 1, 0, 1]));
}

#[test]
fn an_interchange_with_a_bad_envelope_is_failed_with_the_reason() {
    let bad = common::SAMPLE.replacen("IEA*1*000000101", "IEA*1*000000199", 1);
    let decision = decide(&bad, &[Known::NEW], false);
    assert_eq!((decision.verdict, follows(&decision)), (Verdict::Failed, [0, 0, 0, 0]));
    assert!(decision.says.starts_with("interchange 000000101: "), "{}", decision.says);
    assert_eq!(decision.partner, "marrowfield", "it is known whose it is");
}

#[test]
fn a_stranger_is_failed_by_its_identifiers() {
    let stranger = common::SAMPLE.replacen("*ZZ*MARROWFIELD    ", "*ZZ*NOBODY         ", 1);
    let decision = decide(&stranger, &[Known::NEW], false);
    assert_eq!(decision.verdict, Verdict::Failed);
    assert_eq!(decision.says, "no partner has the identifiers ZZ/NOBODY to ZZ/QUILLHAVEN");
}

#[test]
fn what_cannot_be_read_is_reported_with_its_bytes_and_the_rest_is_taken() {
    let decision = decide(&format!("{}GARBAGE IN BETWEEN", common::SAMPLE), &[Known::NEW], false);
    assert_eq!((decision.verdict, follows(&decision)), (Verdict::Failed, [2, 1, 0, 1]));
    assert!(decision.says.contains("no interchange header starts here"), "{}", decision.says);
    let empty = decide("", &[], false);
    assert_eq!((empty.verdict, empty.says.as_str()), (Verdict::Failed, "the file is empty"));
}

#[test]
fn two_interchanges_in_one_file_are_decided_each() {
    let second = common::SAMPLE.replace("000000101", "000000102");
    let decision = decide(&format!("{}{second}", common::SAMPLE), &[SAME(), Known::NEW], false);
    assert_eq!((decision.verdict, follows(&decision)), (Verdict::Received, [2, 1, 2, 1]));
    assert!(decision.says.contains("interchange 000000101 was received before"), "{}", decision.says);
}

#[test]
fn a_partner_that_wants_no_acknowledgment_gets_none() {
    let mut files = common::files();
    let partner = files.get_mut("partners/marrowfield.toml").unwrap();
    *partner = partner[..partner.find("[acknowledge]").unwrap()].to_owned();
    let decision = decide_in(&common::workspace(&files), common::SAMPLE, &[Known::NEW], false);
    assert_eq!(follows(&decision), [2, 0, 0, 1]);
}

#[test]
fn sets_that_no_flow_takes_are_failed_messages() {
    let (received, unread) = read(common::SAMPLE);
    let workspace = common::workspace(&common::files());
    let decision = decide_x12(&workspace, &provenance("elsewhere"), &received, &unread, &[Known::NEW]);
    assert_eq!((decision.verdict, decision.split.parts.len()), (Verdict::Received, 2));
    assert_eq!(decision.says, "no flow takes 850 from marrowfield");
}

#[test]
fn test_and_production_have_numbers_of_their_own() {
    let key = |text: &str| LedgerKey::of(&read(text).0[0].interchange.header);
    let production = common::SAMPLE.replace("*0*T*>", "*0*P*>");
    assert_ne!(key(common::SAMPLE), key(&production));
    assert_eq!(key(common::SAMPLE), key(&common::SAMPLE.replace("BEG*00", "BEG*05")));
}

#[test]
fn json_becomes_one_message_for_each_flow_that_takes_it() {
    let mut files = common::files();
    let flow = "title = \"Notes\"\nkey = \"reference\"\n\n[[intake]]\nfrom = \"notes\"\ntakes = \"order\"\nvalidate = \"off\"\n\n[[step]]\nname = \"book\"\ncall = { at = \"erp\", post = \"/orders\", body = \"it\" }\n";
    files.insert("flows/notes.toml".into(), flow.into());
    files.insert("flows/more-notes.toml".into(), flow.into());
    files.insert("connections/notes.toml".into(), "title = \"Notes\"\nkind = \"folder\"\npath = \"notes\"\n".into());
    let workspace = common::workspace(&files);
    let decision = decide_document(&workspace, &provenance("notes"), 2, &content(b"{}"), &Known::NEW);
    let flows: Vec<&str> = decision.split.heads.iter().map(|head| head.flow.as_str()).collect();
    assert_eq!((decision.verdict, flows), (Verdict::Received, vec!["more-notes", "notes"]));
    let broken = decide_document(&workspace, &provenance("notes"), 1, &content(b"{"), &Known::NEW);
    assert_eq!(broken.verdict, Verdict::Failed);
    assert!(broken.says.starts_with("not JSON: "), "{}", broken.says);
    for size in [JSON_LIMIT as u64 + 1, MAX_ARRIVAL + 1] {
        let large = decide_document(&workspace, &provenance("notes"), size, &content(b""), &Known::NEW);
        assert_eq!(large.verdict, Verdict::Failed);
        assert!(large.says.contains("more than the limit"), "{}", large.says);
    }
    assert_eq!(
        decide_document(&workspace, &provenance("erp"), 2, &content(b"{}"), &Known::NEW).says,
        "no flow takes anything from erp"
    );
}

#[test]
fn a_call_is_taken_by_the_flows_that_ask_for_its_event() {
    let mut files = common::files();
    let drop = |files: &mut Files, name: &str, text: &str| drop(files.insert(name.to_owned(), text.to_owned()));
    drop(&mut files, "connections/shop.toml", "kind = \"webhook\"\npath = \"shop\"\nsignature = { secret = \"shop\" }\n");
    let flow = |events: &str| {
        format!(
            "[[intake]]\nfrom = \"shop\"\ntakes = \"order\"\nvalidate = \"off\"\nevents = {events}\n\n[[step]]\nname = \"s\"\nset = \"1\"\n"
        )
    };
    drop(&mut files, "flows/placed.toml", &flow("[\"purchase.placed\"]"));
    drop(&mut files, "flows/all.toml", &flow("[]"));
    let workspace = common::workspace(&files);
    let decide = |event: &str, known: &Known| {
        let provenance = Provenance { event: event.to_owned(), delivery: "d1".to_owned(), ..provenance("shop") };
        decide_document(&workspace, &provenance, 2, &content(b"{}"), known)
    };
    let flows = |decision: &Decision| decision.split.heads.iter().map(|head| head.flow.clone()).collect::<Vec<_>>();
    let placed = decide("purchase.placed", &Known::NEW);
    assert_eq!(flows(&placed), ["all", "placed"]);
    assert!(placed.says.contains("the flow shop-orders does not take it: does not fit the schema purchase: "), "{}", placed.says);
    assert_eq!(
        (&placed.split.heads[0].meta["event"], &placed.split.heads[0].meta["delivery"]),
        (&"purchase.placed".into(), &"d1".into())
    );
    assert_eq!(flows(&decide("item.listed", &Known::NEW)), ["all"]);
    // A duplicate by the sender's id; other content with the same id is received and noted.
    let repeat = decide("purchase.placed", &SAME());
    assert_eq!((repeat.verdict, follows(&repeat)), (Verdict::Duplicate, [0; 4]));
    let other = decide("purchase.placed", &Known::Other { arrival: Id(5) });
    assert_eq!((other.verdict, flows(&other).len()), (Verdict::Received, 2));
    assert!(other.says.contains("other content"), "{}", other.says);
}

#[test]
fn a_document_that_does_not_fit_is_rejected_reported_or_let_pass_as_its_intake_says() {
    let mut files = common::files();
    files.insert("connections/notes.toml".into(), "kind = \"folder\"\npath = \"notes\"\n".into());
    let mut decide = |validate: &str| {
        let flow = format!("[[intake]]\nfrom = \"notes\"\ntakes = \"order\"\n{validate}\n[[step]]\nname = \"s\"\nset = \"1\"\n");
        files.insert("flows/notes.toml".into(), flow);
        let decision = decide_document(&common::workspace(&files), &provenance("notes"), 2, &content(b"{}"), &Known::NEW);
        (
            decision.verdict,
            decision.split.parts.len(),
            decision.says.contains("does not fit the schema order: `reference` is missing"),
        )
    };
    assert_eq!(decide(""), (Verdict::Failed, 0, true));
    assert_eq!(decide("validate = \"reject\""), (Verdict::Failed, 0, true));
    assert_eq!(decide("validate = \"warn\""), (Verdict::Received, 1, true));
    assert_eq!(decide("validate = \"off\""), (Verdict::Received, 1, false));
    let workspace = common::workspace(&files);
    let amended = |text: &str| wirewatch_core::amend::findings(&workspace, "shop-orders", None, &Form::Json, text);
    assert!(amended("{}").iter().any(|finding| finding.says == "`data` is missing"), "{:?}", amended("{}"));
    assert_eq!(amended(&common::files()["cases/shop-order-booked/given.json"]), []);
}

#[test]
fn a_set_that_no_flow_takes_is_a_failed_message_whatever_was_acknowledged() {
    let workspace = common::workspace(&common::files());
    // A second group of the same interchange, with a valid order that no flow takes.
    let order = common::SAMPLE.lines().collect::<String>();
    let start = order.find("GS*PO").expect("a group");
    let end = order.find("IEA*").expect("an end");
    let other = "GS*PR*MARROWFIELD*QUILLHAVEN*20261123*0700*102*X*004010~ST*855*0009~BAK*00*AK*MF-1*20261123~PO1*1*1*EA*1**VP*A~CTT*1~SE*5*0009~GE*1*102~";
    let both = format!("{}{other}{}", &order[..end], order[end..].replacen("IEA*1*", "IEA*2*", 1));
    let alone = format!("{}{other}{}", &order[..start], &order[end..]);
    for (text, taken) in [(both, 2), (alone, 0)] {
        let decision = decide_in(&workspace, &text, &[Known::NEW], false);
        assert!(decision.says.contains("no flow takes 855 from marrowfield"), "{}", decision.says);
        let of = |flow: &str| {
            let parts = decision.split.parts.iter().filter(|(head, ..)| decision.split.heads[*head as usize].flow == flow);
            parts.count()
        };
        assert_eq!((decision.verdict, of("partner-orders"), of("unrouted")), (Verdict::Received, taken, 1), "{}", decision.says);
        let part =
            decision.split.parts.iter().find(|(head, ..)| decision.split.heads[*head as usize].flow == "unrouted").unwrap();
        let head = &decision.split.heads[part.0 as usize];
        let own = &text.as_bytes()[part.1.start as usize..part.1.end as usize];
        let document = workspace.document(&head.form, own).expect("it is read");
        let origin = Origin {
            id: Id(9),
            arrival: Id(1),
            body: Id(1),
            slice: part.1.clone(),
            flow: head.flow.clone(),
            release: 1,
            form: head.form.clone(),
            meta: head.meta.clone(),
        };
        let logic = Logic::of(&workspace, "unrouted").expect("a built-in flow");
        let machine = Machine::begin(logic, std::sync::Arc::new(origin), document).0;
        let Next::End(End::Failed(reason)) = machine.next() else { panic!("{:?}", machine.next()) };
        assert_eq!(reason.says, "no flow takes 855 from marrowfield");
        assert_eq!(machine.keys().0, format!("855 {}", head.meta["interchange"].as_str().unwrap()));
    }
}

#[test]
fn an_event_that_no_flow_asks_for_needs_nobody() {
    let mut files = common::files();
    let shop = "kind = \"webhook\"\npath = \"shop\"\nsignature = { secret = \"shop\" }\n";
    files.insert("connections/shop.toml".to_owned(), shop.to_owned());
    let workspace = common::workspace(&files);
    let decision = decide_document(
        &workspace,
        &Provenance { event: "item.listed".to_owned(), ..provenance("shop") },
        2,
        &content(b"{}"),
        &Known::NEW,
    );
    assert_eq!((decision.verdict, decision.says.as_str()), (Verdict::Received, "no flow takes item.listed from shop"));
}

#[test]
fn documents_of_one_intake_go_to_the_flows_that_take_their_sender() {
    let mut files = common::files();
    let own = files["flows/partner-orders.toml"].clone();
    let takes = "takes = \"x12/850\"";
    assert!(own.contains(takes), "{own}");
    let limited = |partner: &str| own.replacen(takes, &format!("{takes}\npartners = [{partner:?}]"), 1);
    let flows = |files: &Files| {
        let decision = decide_in(&common::workspace(files), common::SAMPLE, &[Known::NEW], false);
        (decision.verdict, decision.split.heads.iter().map(|head| head.flow.clone()).collect::<Vec<_>>())
    };
    files.insert("flows/partner-orders.toml".into(), limited("marrowfield"));
    assert_eq!(flows(&files), (Verdict::Received, vec!["partner-orders".to_owned()]));
    let other = files["partners/marrowfield.toml"].replace("MARROWFIELD", "TANSYHOLLOW");
    files.insert("partners/tansy.toml".into(), other);
    files.insert("flows/partner-orders.toml".into(), limited("tansy"));
    assert_eq!(flows(&files), (Verdict::Received, vec!["unrouted".to_owned()]), "no flow takes this sender's documents here");
    files.insert("flows/partner-orders.toml".into(), limited("marrowfeld"));
    let findings = Workspace::read(&files).findings;
    assert!(findings.iter().any(|one| one.says.contains("there is no partner \"marrowfeld\"")), "{findings:?}");
}

#[test]
fn what_is_neither_x12_nor_json_is_taken_as_text_by_a_flow_that_asks_for_it() {
    let mut files = common::files();
    let flow = |takes: &str| {
        let off = if takes == "text" { "" } else { "validate = \"off\"\n" };
        format!("[[intake]]\nfrom = \"notes\"\ntakes = {takes:?}\n{off}\n[[step]]\nname = \"tell\"\nnote = \"{{it}}\"\n")
    };
    files.insert("connections/notes.toml".into(), "kind = \"folder\"\npath = \"notes\"\n".into());
    files.insert("flows/texts.toml".into(), flow("text"));
    let workspace = common::workspace(&files);
    let decision = decide_document(&workspace, &provenance("notes"), 9, &content(b"<pick/> 7"), &Known::NEW);
    assert_eq!((decision.verdict, &decision.split.heads[0].form), (Verdict::Received, &Form::Bytes));
    // Beside a flow that takes JSON, other content is still received as text; alone, that flow makes it fail.
    files.insert("flows/orders.toml".into(), flow("order"));
    let both = common::workspace(&files);
    let flows = |text: &[u8]| {
        let decision = decide_document(&both, &provenance("notes"), text.len() as u64, &content(text), &Known::NEW);
        decision.split.heads.iter().map(|head| head.flow.clone()).collect::<Vec<_>>()
    };
    assert_eq!((flows(b"{}"), flows(b"<pick/>")), (vec!["orders".to_owned(), "texts".to_owned()], vec!["texts".to_owned()]));
}
