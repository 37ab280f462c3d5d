//! Reads and explains X12 documents; nothing is stored.

use super::problem::Problem;
use super::{Answer, rows};
use crate::run::App;
use crate::view::some;
use crate::view::{EdiAcknowledgment, EdiFact, EdiFinding, EdiItem, EdiLine, EdiLook, EdiParty, EdiRequest, EdiSet, EdiSummary};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use wirewatch_core::edi::acknowledge::{self, Drafted};
use wirewatch_core::edi::{Summary, summary};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::x12::ack::{Stamp, acknowledgments, is_acknowledged};
use wirewatch_core::x12::describe::describe;
use wirewatch_core::x12::{Fault, Header, Item, Limits, Reader, Reading, Scanner, SetTree, Terms};

/// Largest document in bytes, and segments returned.
const MAX_TEXT: usize = 1 << 20;
const LINES: usize = 5000;
/// Acknowledgments that are shown.
const ACKNOWLEDGMENTS: usize = 20;

/// An X12 document with its segments, findings and summaries. Nothing is stored.
#[utoipa::path(post, path = "/api/edi", operation_id = "edi", request_body = EdiRequest,
    responses((status = 200, body = EdiLook), (status = 413, body = Problem)))]
pub async fn look(State(app): State<Arc<App>>, Json(request): Json<EdiRequest>) -> Answer<EdiLook> {
    let bytes = match request.arrival.is_empty() {
        true => request.document.into_bytes(),
        false => {
            let id = super::id(&request.arrival)?;
            let known = app.store.arrival(id).await?;
            known.ok_or_else(|| Problem::not_found(format!("there is no arrival {}", request.arrival)))?;
            app.store.body(id, MAX_TEXT as u64 + 1).await?
        }
    };
    if bytes.len() > MAX_TEXT {
        let says = format!("more than {} KB; `wirewatch edi check` takes files of any size", MAX_TEXT / 1024);
        return Err(Problem::new(StatusCode::PAYLOAD_TOO_LARGE, says));
    }
    let (_, workspace) = app.engine.releases().current();
    if !request.partner.is_empty() && !workspace.partners.contains_key(&request.partner) {
        return Err(Problem::new(StatusCode::BAD_REQUEST, format!("there is no partner `{}`", request.partner)));
    }
    let look = tokio::task::spawn_blocking(move || looked_at(&workspace, &request.partner, &bytes)).await;
    look.map(Json)
        .map_err(|_| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "reading it failed because of a fault in the service"))
}

/// Returns the partner and terms by which an interchange is read: the requested partner, or one that the interchange names.
fn terms(workspace: &Workspace, asked: &str, header: &Header) -> (String, Terms) {
    let turned = Header { sender: header.receiver.clone(), receiver: header.sender.clone(), ..header.clone() };
    let named = || workspace.partner_of(header).or_else(|| workspace.partner_of(&turned));
    match workspace.partners.get(asked).or_else(named) {
        Some(partner) => (partner.name.clone(), partner.terms()),
        None => (String::new(), workspace.terms(header)),
    }
}

fn looked_at(workspace: &Arc<Workspace>, asked: &str, bytes: &[u8]) -> EdiLook {
    let (own, partner) = (workspace.clone(), asked.to_owned());
    let mut reader = Reader::choosing(move |header| terms(&own, &partner, header).1, Limits::default());
    reader.feed(bytes);
    let reading = reader.finish();
    let report = wirewatch_core::edi::Report::of(&reading);
    let passed = report.unread.iter().map(|one| format!("bytes {} to {}: {}", one.from, one.to, one.says));
    let says = report.errors.iter().map(|one| one.says.clone()).chain(passed).collect();
    let first = reading.interchanges.first();
    let partner = first.map_or(String::new(), |one| terms(workspace, asked, &one.header).0);
    let (lines, cut, numbers) = lines(bytes, &reading);
    let sets = sets(workspace, asked, bytes, &reading, &numbers);
    let acknowledgments = acknowledged(workspace, asked, &reading);
    EdiLook { valid: report.valid, says, partner: some(&partner), lines, cut, sets, acknowledgments }
}

/// Returns the acknowledgments that a reading would get, each in the style of its partner.
fn acknowledged(workspace: &Workspace, asked: &str, reading: &Reading) -> Vec<EdiAcknowledgment> {
    let now = jiff::Zoned::now();
    let (date, time) = (now.strftime("%Y%m%d").to_string(), now.strftime("%H%M").to_string());
    let stamp = Stamp { interchange_control: 1, group_control: 1, date, time };
    let style = |header: &Header| {
        let partner = workspace.partners.get(&terms(workspace, asked, header).0);
        partner.and_then(|partner| partner.acknowledge.as_ref()).map(|acknowledge| acknowledge.style).unwrap_or_default()
    };
    let shown = |one: Drafted| EdiAcknowledgment {
        set: one.kind.into(),
        says: acknowledgments(&one.bytes).iter().flat_map(|one| one.sentences()).collect(),
        text: String::from_utf8_lossy(&one.lines()).trim_end().to_owned(),
        answers: one.answers,
    };
    acknowledge::acknowledgments(reading, style, &stamp).into_iter().take(ACKNOWLEDGMENTS).map(shown).collect()
}

/// Every segment with its findings, whether there are more, and the number of the segment that begins at an offset.
fn lines(bytes: &[u8], reading: &Reading) -> (Vec<EdiLine>, bool, HashMap<u64, u32>) {
    let mut found: BTreeMap<u64, Vec<&Fault>> = BTreeMap::new();
    let in_groups = reading.interchanges.iter().flat_map(|one| &one.groups);
    let in_sets = in_groups.clone().flat_map(|group| &group.sets).flat_map(|set| &set.faults);
    let all =
        reading.interchanges.iter().flat_map(|one| &one.faults).chain(in_groups.flat_map(|group| &group.faults)).chain(in_sets);
    for fault in all {
        found.entry(fault.offset).or_default().push(fault);
    }
    let mut scanner = Scanner::over(bytes, Limits::default());
    let (mut lines, mut numbers, mut cut) = (Vec::new(), HashMap::new(), false);
    while let Some(item) = scanner.next_item() {
        let Item::Segment(segment) = item else { continue };
        let number = u32::try_from(segment.number).unwrap_or(u32::MAX);
        numbers.insert(segment.offset, number);
        if lines.len() == LINES {
            cut = true;
            continue;
        }
        let column = |at: u64| {
            let within = (at.saturating_sub(segment.offset) as usize).min(segment.bytes.len());
            String::from_utf8_lossy(&segment.bytes[..within]).chars().count() as u32
        };
        let findings = found.remove(&segment.offset).unwrap_or_default();
        let findings = findings.into_iter().map(|fault| finding(fault, column(fault.at.start), column(fault.at.end)));
        let text = String::from_utf8_lossy(segment.bytes).into_owned() + &char::from(segment.delimiters.segment).to_string();
        lines.push(EdiLine { number, text: text.trim_end().to_owned(), findings: findings.collect() });
    }
    // Findings that belong to no segment, such as a missing trailer, are reported at the last one.
    let left = found.into_values().flatten().map(|fault| finding(fault, 0, 0));
    if let Some(last) = lines.last_mut() {
        last.findings.extend(left);
    }
    (lines, cut, numbers)
}

fn finding(fault: &Fault, from: u32, to: u32) -> EdiFinding {
    let code = some(&fault.code);
    EdiFinding { weight: fault.weight.into(), level: fault.level.into(), code, says: fault.says.clone(), from, to }
}

fn sets(workspace: &Workspace, asked: &str, bytes: &[u8], reading: &Reading, numbers: &HashMap<u64, u32>) -> Vec<EdiSet> {
    let mut sets = Vec::new();
    let mut shown = 0;
    for interchange in &reading.interchanges {
        let definitions = terms(workspace, asked, &interchange.header).1.definitions;
        for group in &interchange.groups {
            for set in &group.sets {
                let first = numbers.get(&set.bytes.start).copied().unwrap_or(1);
                let own = &bytes[set.bytes.start as usize..set.bytes.end as usize];
                let tree = definitions
                    .find(&group.version, &set.set)
                    .and_then(|definition| SetTree::new(definition.clone(), own, interchange.header.delimiters).ok());
                let segments = match &tree {
                    Some(tree) if shown < LINES => {
                        let all = describe(tree).into_iter().enumerate();
                        all.map(|(n, one)| rows::described(first as usize - 1 + n, one)).collect()
                    }
                    _ => Vec::new(),
                };
                shown += segments.len();
                sets.push(EdiSet {
                    set: set.set.clone(),
                    control: set.control.clone(),
                    name: tree.as_ref().map_or(String::new(), |tree| tree.definition().name.clone()),
                    ack: is_acknowledged(group).then(|| set.ack().into()),
                    interchange: interchange.header.control.clone(),
                    first,
                    last: first + set.segments.saturating_sub(1),
                    summary: tree.as_ref().map(|tree| view(Summary::of(tree))).unwrap_or_default(),
                    segments,
                });
            }
        }
    }
    sets
}

fn view(of: Summary) -> EdiSummary {
    let facts = |all: Vec<summary::Fact>| all.into_iter().map(|one| EdiFact { label: one.label, value: one.value }).collect();
    let party = |one: summary::PartySummary| EdiParty {
        role: one.role,
        name: one.name,
        id: one.id,
        address: one.address,
        facts: facts(one.facts),
    };
    let item = |one: summary::LineSummary| EdiItem {
        number: one.number,
        quantity: one.quantity,
        unit: one.unit,
        price: one.price,
        amount: one.amount,
        description: one.description,
        ids: facts(one.ids),
        facts: facts(one.facts),
    };
    EdiSummary {
        title: of.title,
        kind: of.kind,
        facts: facts(of.facts),
        parties: of.parties.into_iter().map(party).collect(),
        lines: of.lines.into_iter().map(item).collect(),
        totals: facts(of.totals),
        warnings: of.warnings,
        says: of.says,
    }
}
