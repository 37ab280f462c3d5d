//! A draft of a partner's guide from documents it has sent: what they use, which codes and qualifiers they have.

use crate::x12::definitions::{ElementGuide, Guide, GuideUse, Kind, SegmentGuide};
use crate::x12::{Child, LoopRef, SetTree};
use std::collections::{BTreeMap, BTreeSet};

/// Statistics of one place in the table.
#[derive(Debug, Default)]
struct Seen {
    /// Documents or loops that had it, of how many that could have.
    within: usize,
    /// The most in one of them.
    most: u32,
    elements: BTreeMap<usize, SeenElement>,
    count: usize,
}

#[derive(Debug, Default)]
struct SeenElement {
    count: usize,
    values: BTreeSet<String>,
    longest: usize,
}

/// Most distinct values of a code that are listed.
const LISTED: usize = 12;

/// Drafts a guide that requires only what every sample has. With few samples it requires too much.
///
/// `None` when there are no samples, or they are of different sets.
#[must_use]
pub fn draft(samples: &[SetTree]) -> Option<Guide> {
    let first = samples.first()?.definition();
    if samples.iter().any(|sample| (&sample.definition().set, &sample.definition().version) != (&first.set, &first.version)) {
        return None;
    }
    let mut seen: BTreeMap<String, Seen> = BTreeMap::new();
    let mut loops: BTreeMap<String, usize> = BTreeMap::new();
    let mut order = Vec::new();
    for sample in samples {
        gather(sample.root(), "", &mut seen, &mut loops, &mut order);
    }
    let segments = order.iter().filter_map(|path| {
        let seen = &seen[path];
        let id = path.rsplit('/').next().unwrap_or(path);
        if matches!(id, "ST" | "SE") {
            return None;
        }
        let around = path.rsplit_once('/').map_or("", |(around, _)| around);
        let always = seen.within == loops.get(around).copied().unwrap_or(samples.len());
        let elements = seen.elements.iter().filter_map(|(n, element)| guide_of(samples, id, *n, element, seen.count));
        // The segment that opens a loop is needed wherever the loop is.
        let opens = around.rsplit('/').next() == Some(id);
        Some(SegmentGuide {
            at: path.clone(),
            use_: (always && !opens).then_some(GuideUse::Required),
            max: Some(seen.most).filter(|most| *most > 1),
            elements: elements.collect(),
        })
    });
    Some(Guide {
        title: format!("{} as seen in {} documents", first.name, samples.len()),
        of: format!("x12/{}/{}", first.version, first.set),
        segment: segments
            .filter(|segment| segment.use_.is_some() || segment.max.is_some() || !segment.elements.is_empty())
            .collect(),
        ..Guide::default()
    })
}

fn guide_of(samples: &[SetTree], id: &str, n: usize, seen: &SeenElement, segments: usize) -> Option<(String, ElementGuide)> {
    let element = samples[0].definition().segment(id)?.element(n)?;
    let is_list = element.kind == Kind::Code && seen.values.len() <= LISTED;
    let guide = ElementGuide {
        use_: (seen.count == segments).then_some(GuideUse::Required),
        codes: if is_list { seen.values.iter().cloned().collect() } else { Vec::new() },
        longest: (element.kind == Kind::Text).then_some(seen.longest),
        ..ElementGuide::default()
    };
    Some((format!("{id}{n:02}"), guide))
}

fn gather(
    within: LoopRef<'_>,
    path: &str,
    seen: &mut BTreeMap<String, Seen>,
    loops: &mut BTreeMap<String, usize>,
    order: &mut Vec<String>,
) {
    *loops.entry(path.to_owned()).or_default() += 1;
    let mut here: BTreeMap<String, u32> = BTreeMap::new();
    for child in within.children() {
        match child {
            Child::Loop(inner) => {
                let own = if path.is_empty() { inner.name().to_owned() } else { format!("{path}/{}", inner.name()) };
                gather(inner, &own, seen, loops, order);
            }
            Child::Segment(segment) => {
                let id = String::from_utf8_lossy(segment.id()).into_owned();
                let own = if path.is_empty() { id } else { format!("{path}/{id}") };
                if !seen.contains_key(&own) {
                    order.push(own.clone());
                }
                *here.entry(own.clone()).or_default() += 1;
                let place = seen.entry(own).or_default();
                place.count += 1;
                for n in (1..=segment.count()).filter(|n| !segment.element(*n).is_empty()) {
                    let element = place.elements.entry(n).or_default();
                    let value = segment.text(n);
                    element.count += 1;
                    element.longest = element.longest.max(value.chars().count());
                    if element.values.len() <= LISTED {
                        element.values.insert(value);
                    }
                }
            }
        }
    }
    for (own, count) in here {
        let place = seen.get_mut(&own).expect("it was just seen");
        place.within += 1;
        place.most = place.most.max(count);
    }
}
