//! The client on X12 documents, with no service running.

use crate::scene::{client, root};
use serde_json::Value;
use std::io::Write;
use std::process::{Command, Stdio};

const ORDER: &str = "demo/samples/marrowfield-850.edi";
const ANSWER: &str = "demo/samples/quillhaven-855.edi";

/// Exit code, standard output and standard error of `wirewatch edi …` with a text on its standard input.
fn edi(arguments: &[&str], input: &str) -> (i32, String, String) {
    client(&[&["edi"], arguments].concat(), input)
}

fn sample(name: &str) -> String {
    std::fs::read_to_string(root().join(name)).expect("a sample")
}

fn broken() -> String {
    sample(ORDER)
        .replacen("PO1*1*12*EA", "PO1*1*twelve*EA", 1)
        .replacen("N4*Tansy Mills*HV", "QQQ*1~\nN4*Tansy Mills*HV", 1)
        .replacen("CUR*BY*USD~", "CUR*BY*USD***~", 1)
}

/// The parts of an interchange that the clock decides, as they are written elsewhere.
fn steady(text: &str) -> String {
    let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
    for line in &mut lines {
        let mut parts: Vec<String> = line.split('*').map(str::to_owned).collect();
        match parts[0].as_str() {
            "ISA" => (parts[9], parts[10]) = ("YYMMDD".into(), "HHMM".into()),
            "GS" => (parts[4], parts[5]) = ("CCYYMMDD".into(), "HHMM".into()),
            _ => continue,
        }
        *line = parts.join("*");
    }
    lines.join("\n")
}

#[test]
fn an_order_and_its_answer_read_as_a_person_reads_them() {
    let (code, out, err) = edi(&["show", ORDER], "");
    assert_eq!((code, err.as_str()), (0, ""));
    insta::assert_snapshot!("show_order", out);
    let (code, out, _) = edi(&["show", ANSWER], "");
    assert_eq!(code, 0);
    insta::assert_snapshot!("show_answer", out);
    let (_, page, _) = edi(&["show", "--page", ORDER], "");
    assert!(page.starts_with("<!doctype html>") && page.contains("Ten Frame Hive".to_uppercase().as_str()), "{page}");
    assert!(!page.contains("http") && !page.contains("<script"), "a page needs nothing from elsewhere");
    let (_, named, _) = edi(&["show", "--named", ORDER], "");
    assert!(named.contains("PO103  Unit or Basis for Measurement Code           EA  Each"), "{named}");
    let (_, raw, _) = edi(&["show", "--raw", "-"], &sample(ORDER));
    assert!(raw.contains("    4  BEG*00*SA*MF-20417**20261123~"), "{raw}");
}

#[test]
fn what_is_wrong_is_shown_with_its_place_and_reported_to_programs_in_the_documented_form() {
    let (code, out, _) = edi(&["check", ORDER], "");
    assert_eq!((code, out.lines().last()), (0, Some("2 sets: 0 rejected")));
    let (code, out, _) = edi(&["check", "-"], &broken());
    assert_eq!(code, 1);
    insta::assert_snapshot!("check_broken", out);
    let (code, out, _) = edi(&["check", "--json", "-"], &broken());
    assert_eq!(code, 1);
    insta::assert_snapshot!("check_broken_json", out);
    let (code, out, _) = edi(&["check", "--json", "-"], "Dear Sir or Madam");
    let report: Value = serde_json::from_str(&out).expect("JSON");
    assert_eq!((code, &report["valid"], report["interchanges"].as_array().map(Vec::len)), (1, &Value::Bool(false), Some(0)));
    assert!(report["errors"][0]["says"].as_str().is_some_and(|says| says.contains("ISA")), "{report}");
    let (code, _, err) = edi(&["check", "nowhere.edi"], "");
    assert_eq!(code, 1);
    assert!(err.contains("nowhere.edi: No such file"), "{err}");
}

#[test]
fn a_partners_guide_and_leniency_count_when_it_is_named() {
    let folder = tempfile::tempdir().expect("a folder");
    for (path, text) in wirewatch_service::read_workspace(&root().join("demo/workspace")).expect("the demo") {
        let path = folder.path().join(path);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        std::fs::write(path, text).expect("written");
    }
    let guide = "of = \"x12/004010/850\"\n[[segment]]\nat = \"PER\"\nuse = \"required\"\n";
    std::fs::create_dir_all(folder.path().join("guides")).expect("made");
    std::fs::write(folder.path().join("guides/marrowfield.toml"), guide).expect("written");
    let partner = folder.path().join("partners/marrowfield.toml");
    let text = std::fs::read_to_string(&partner).expect("the partner");
    let tolerate = "[[tolerate]]\nlevel = \"segment\"\ncode = \"1\"\nat = \"QQQ\"\n";
    std::fs::write(&partner, format!("guides = [\"marrowfield\"]\n{text}\n{tolerate}")).expect("written");
    let workspace = folder.path().to_str().expect("text");
    let input = sample(ORDER).replacen("CUR*BY*USD~", "PER*BD*Mina Alder~\nQQQ*1~\nCUR*BY*USD~", 1).replacen("SE*15", "SE*17", 1);
    let (code, out, _) = edi(&["check", "--json", "-", "--partner", "marrowfield", "--workspace", workspace], &input);
    let report: Value = serde_json::from_str(&out).expect("JSON");
    let group = &report["interchanges"][0]["groups"][0];
    assert_eq!((code, group["ack"].as_str(), group["accepted"].as_u64()), (1, Some("R"), Some(0)), "{out}");
    let says = |set: usize| {
        group["sets"][set]["errors"]
            .as_array()
            .expect("a list")
            .iter()
            .map(|one| one["says"].as_str().unwrap_or_default())
            .collect::<Vec<_>>()
    };
    assert_eq!(says(1), ["the mandatory segment PER, which the partner's guide asks for, is missing before DTM"]);
    assert!(says(0).contains(&"QQQ is not a segment of 004010"));
    let (code, _, err) = edi(&["check", "-", "--partner", "marrowfeld", "--workspace", workspace], &input);
    assert_eq!(code, 2);
    assert!(err.contains("did you mean `marrowfield`?"), "{err}");
}

#[test]
fn acknowledgments_are_written_as_asked_for() {
    let (code, out, _) = edi(&["ack", "-"], &broken());
    assert_eq!(code, 0);
    insta::assert_snapshot!("ack", steady(&out));
    let ta1 = sample(ORDER).replacen("*000000101*0*T", "*000000101*1*T", 1);
    let (_, out, _) = edi(&["ack", "-", "--as", "999", "--level", "group", "--control", "41"], &ta1);
    insta::assert_snapshot!("ack_999_and_ta1", steady(&out));
    let (code, again, _) = edi(&["check", "-"], &out);
    assert_eq!(code, 0, "{again}");
    let alone = out.split_inclusive('\n').take(3).collect::<String>();
    assert_eq!(edi(&["show", "-"], &alone).1, "interchange 000000101: accepted\n");
    let (code, _, err) = edi(&["ack", "-"], &out);
    assert_eq!(code, 1);
    assert!(err.contains("nothing to acknowledge"), "{err}");
    let (_, shown, _) = edi(&["show", "-"], &edi(&["ack", "-"], &broken()).1);
    assert!(shown.contains("850 0001, segment 10 (PO1), PO102: Invalid Character In Data Element (twelve)"), "{shown}");
}

#[test]
fn a_tree_is_written_back_to_the_same_document() {
    let (code, trees, _) = edi(&["tree", "--json", ORDER], "");
    assert_eq!(code, 0);
    let parsed: Value = serde_json::from_str(&trees).expect("JSON");
    let first = &parsed[0];
    let actual =
        [&first["set"], &first["control"], &first["interchange"], &first["group"]].map(|value| value.as_str().expect("text"));
    assert_eq!(actual, ["850", "0001", "000000101", "101"]);
    let line = first["tree"]["of"].as_array().expect("a list").iter().find(|node| node["loop"] == "PO1").expect("a line");
    assert_eq!(line["of"][0]["PO107"], "QH-HIVE-10");
    let write = ["write", "-", "--partner", "marrowfield", "--workspace", "demo/workspace"];
    let (code, written, err) = edi(&write, &trees);
    assert_eq!((code, err.as_str()), (0, ""));
    let file = tempfile::NamedTempFile::new().expect("a file");
    std::fs::write(file.path(), &written).expect("written");
    // It is written to the partner that sent it; this is the only difference.
    let turned = "interchange 1\n  ISA06  Sender\n    - MARROWFIELD\n    + QUILLHAVEN\n  ISA08  Receiver\n    - QUILLHAVEN\n    + MARROWFIELD\n";
    let (code, out, _) = edi(&["diff", ORDER, file.path().to_str().expect("text")], "");
    assert_eq!((code, out.as_str()), (1, turned));
    let (code, out, _) = edi(&["diff", ORDER, ORDER], "");
    assert_eq!((code, out.as_str()), (0, "no differences\n"));
    let dearer = trees.replacen("64.50", "65.00", 1);
    std::fs::write(file.path(), edi(&write, &dearer).1).expect("written");
    let (code, out, _) = edi(&["diff", ORDER, file.path().to_str().expect("text")], "");
    assert_eq!(code, 1);
    assert_eq!(out, format!("{turned}850 0001\n  PO1[1]/PO104  Unit Price\n    - 64.50\n    + 65.00\n"));
    // Parts that cannot be read are shown and compared, and make the file invalid.
    let order = std::fs::read_to_string(format!("{}/../../{ORDER}", env!("CARGO_MANIFEST_DIR"))).expect("a file");
    std::fs::write(file.path(), format!("{order}what is this\n").replacen("*T*>~", "*P*>~", 1)).expect("written");
    let odd = file.path().to_str().expect("text");
    let (code, out, _) = edi(&["diff", ORDER, odd], "");
    assert!(code == 1 && out.contains("ISA15  Usage\n    - T\n    + P\n") && out.contains("    + what is this\n"), "{out}");
    let (code, out, _) = edi(&["check", odd], "");
    assert!(code == 1 && out.contains("passed over"), "{out}");
    let (code, out, _) = edi(&["tree", odd], "");
    assert!(code == 0 && out.contains("left") && out.contains("what is this"), "{out}");
    let (code, out, err) = edi(&["show", odd], "");
    assert!(code == 0 && out.contains("MF-20417") && err.contains("what is this"), "{out}{err}");
    let (code, _, err) = edi(&write, &trees.replacen("\"PO104\": \"64.50\"", "\"PO1XX\": \"64.50\"", 1));
    assert_eq!(code, 1);
    assert!(err.contains("PO1XX: elements of PO1 are named PO101, PO102"), "{err}");
}

#[test]
fn a_guide_begun_from_samples_lets_those_samples_pass() {
    let (code, guide, _) = edi(&["guide", "from", ORDER], "");
    assert_eq!(code, 0);
    assert!(guide.contains("N101 = { use = \"required\", codes = [\"ST\"] }"), "{guide}");
    let guide = wirewatch_core::x12::Guide::read(&guide).expect("a guide");
    let standard = wirewatch_core::x12::Definitions::standard();
    let set = guide.apply("draft", standard.find("004010", "850").expect("the set")).expect("it applies");
    let mut definitions = (**standard).clone();
    definitions.replace(set.into());
    let reading = wirewatch_core::x12::Reader::read(&definitions.into(), sample(ORDER).as_bytes());
    assert_eq!(reading.interchanges[0].groups[0].accepted_count(), 2, "{:?}", reading.interchanges[0].groups[0].sets);
    let (code, _, err) = edi(&["guide", "from", ORDER, ANSWER], "");
    assert_eq!(code, 1);
    assert!(err.contains("different transaction sets"), "{err}");
}

#[test]
fn a_reader_of_the_output_may_end_early() {
    let input = sample(ORDER).repeat(400);
    let mut child = Command::new(env!("CARGO_BIN_EXE_wirewatch"))
        .args(["edi", "show", "--raw", "-"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the program starts");
    child.stdin.take().expect("piped").write_all(input.as_bytes()).expect("all of it is read first");
    drop(child.stdout.take());
    let done = child.wait_with_output().expect("it ends");
    assert_eq!(String::from_utf8_lossy(&done.stderr), "", "it ends quietly");
}

#[test]
fn a_workspace_has_transaction_sets_of_its_own() {
    let folder = tempfile::tempdir().expect("a folder");
    let write = |path: &str, text: &str| {
        let path = folder.path().join(path);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        std::fs::write(path, text).expect("written");
    };
    write("workspace.toml", "format = 1\n");
    let dictionary =
        "base = \"004010\"\n[segments]\nBGN = { name = \"Beginning\", elements = [\"353 M\", \"127 M\", \"373 M\"] }\n";
    write("standards/004010/dictionary.toml", dictionary);
    let set = "set = \"824\"\nname = \"Application Advice\"\nfunctional_id = \"AG\"\nversion = \"004010\"\ntable = [\n\
        { seg = \"ST\", use = \"M\", max = 1 },\n{ seg = \"BGN\", use = \"M\", max = 1 },\n{ seg = \"SE\", use = \"M\", max = 1 },\n]\n";
    write("standards/004010/824.toml", set);
    let workspace = folder.path().to_str().expect("text");
    let document = sample(ORDER).lines().take(1).collect::<String>()
        + "GS*AG*MARROWFIELD*QUILLHAVEN*20261123*0700*101*X*004010~ST*824*0001~BGN*00*A-7*20261123~SE*3*0001~GE*1*101~IEA*1*000000101~";
    assert_eq!(edi(&["check", "-"], &document).0, 1, "the standard's own sets know no 824");
    let (code, out, _) = edi(&["check", "-", "--workspace", workspace], &document);
    assert_eq!((code, out.lines().last()), (0, Some("1 set: 0 rejected")), "{out}");
    let (_, out, _) = edi(&["check", "-", "--workspace", workspace], &document.replace("A-7", ""));
    assert!(out.contains("BGN02 (Reference Identification) is mandatory but empty"), "{out}");
    write("standards/004010/824.toml", &set.replace("BGN", "BGX"));
    let (code, _, err) = edi(&["check", "-", "--workspace", workspace], &document);
    assert_eq!(code, 1);
    assert!(err.contains("004010 824 uses segment BGX, which is not in the dictionary"), "{err}");
}
