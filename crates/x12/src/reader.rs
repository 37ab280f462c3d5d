//! Reads interchanges: envelopes, groups and sets, each with its verdict, in one pass and bounded memory.

use crate::check::Checker;
use crate::definitions::{Definitions, SetDefinition};
use crate::fault::{Fault, Level};
use crate::scanner::{Item, Limits, Scanner, UnreadWhy};
use crate::segment::segments;
use crate::{Delimiters, Segment};
use serde::{Deserialize, Serialize};
use std::ops::Range;

/// Everything read from one input.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reading {
    pub interchanges: Vec<Interchange>,
    /// Stretches of bytes that were passed over.
    pub unread: Vec<Unread>,
}

/// A stretch of the input that was passed over.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Unread {
    pub bytes: Range<u64>,
    pub says: String,
}

/// A sender or receiver: ISA05/06 or ISA07/08, the id without its padding.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Party {
    pub qualifier: String,
    pub id: String,
}

/// The interchange control header.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Header {
    pub sender: Party,
    pub receiver: Party,
    /// ISA09 and ISA10, `YYMMDD` and `HHMM`.
    pub date: String,
    pub time: String,
    /// ISA12, e.g. `00401`.
    pub version: String,
    /// ISA13, nine digits.
    pub control: String,
    /// ISA14: a TA1 is asked for.
    pub wants_ta1: bool,
    /// ISA15: `P` production, `T` test, `I` information.
    pub usage: String,
    pub delimiters: Delimiters,
}

/// One interchange, ISA to IEA.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Interchange {
    pub header: Header,
    /// Where it stands in the input.
    pub bytes: Range<u64>,
    pub groups: Vec<Group>,
    /// Faults of the envelope itself; none is needed for the interchange to be accepted.
    pub faults: Vec<Fault>,
}

/// One functional group, GS to GE.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Group {
    /// GS01, e.g. `PO`.
    pub functional_id: String,
    /// GS02 and GS03.
    pub sender: String,
    pub receiver: String,
    /// GS06.
    pub control: String,
    /// GS08, e.g. `004010`.
    pub version: String,
    /// GE01 as written; `None` when the trailer is missing or it is no number.
    pub included: Option<u32>,
    pub sets: Vec<SetReading>,
    /// Faults of the group's envelope.
    pub faults: Vec<Fault>,
}

/// One transaction set, ST to SE.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SetReading {
    /// ST01, e.g. `850`.
    pub set: String,
    /// ST02.
    pub control: String,
    /// Where it stands in the input, ST to SE with its terminator.
    pub bytes: Range<u64>,
    pub segments: u32,
    pub faults: Vec<Fault>,
}

/// AK501, data element 717.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum SetAck {
    #[serde(rename = "A")]
    Accepted,
    #[serde(rename = "R")]
    Rejected,
}

impl SetReading {
    /// Accepted when nothing is wrong with it.
    #[must_use]
    pub fn ack(&self) -> SetAck {
        if self.faults.is_empty() { SetAck::Accepted } else { SetAck::Rejected }
    }
}

impl Group {
    /// The sets that may go on: accepted ones of a group whose envelope is sound.
    pub fn accepted(&self) -> impl Iterator<Item = &SetReading> {
        let sound = self.faults.is_empty();
        self.sets.iter().filter(move |set| sound && set.ack() == SetAck::Accepted)
    }
}

/// Push parser from bytes to a [`Reading`].
///
/// [`feed`](Self::feed) bytes as they come, then [`finish`](Self::finish). Memory grows with the
/// number of sets (some 200 bytes each) and their faults, not with their size.
#[derive(Debug)]
pub struct Reader<'d> {
    definitions: &'d Definitions,
    scanner: Scanner,
    envelopes: Envelopes<'d>,
}

/// What is open, and what is complete.
#[derive(Debug, Default)]
struct Envelopes<'d> {
    done: Reading,
    interchange: Option<Interchange>,
    group: Option<Group>,
    set: Option<OpenSet<'d>>,
}

#[derive(Debug)]
struct OpenSet<'d> {
    reading: SetReading,
    checker: Option<Checker<'d>>,
}

impl<'d> Reader<'d> {
    /// A reader at the start of an input.
    #[must_use]
    pub fn new(definitions: &'d Definitions, limits: Limits) -> Self {
        Self { definitions, scanner: Scanner::new(limits), envelopes: Envelopes::default() }
    }

    /// Reads a whole input that is in memory.
    #[must_use]
    pub fn read(definitions: &'d Definitions, bytes: &[u8]) -> Reading {
        let mut reader = Self::new(definitions, Limits::default());
        reader.feed(bytes);
        reader.finish()
    }

    /// Takes the next bytes of the input.
    pub fn feed(&mut self, bytes: &[u8]) {
        self.scanner.feed(bytes);
        self.drain();
    }

    /// Ends the input and gives what was read.
    #[must_use]
    pub fn finish(mut self) -> Reading {
        self.scanner.finish();
        self.drain();
        let end = self.scanner.offset();
        self.envelopes.close_interchange(end, "the input ends before its IEA");
        self.envelopes.done
    }

    fn drain(&mut self) {
        while let Some(item) = self.scanner.next_item() {
            match item {
                Item::Segment(segment) => self.envelopes.segment(self.definitions, &segment),
                Item::Unread { from, to, why } => self.envelopes.unread(from..to, why),
            }
        }
    }
}

impl<'d> Envelopes<'d> {
    fn segment(&mut self, definitions: &'d Definitions, segment: &Segment<'_>) {
        match segment.id() {
            b"ISA" => {
                self.close_interchange(segment.offset, "another ISA follows before its IEA");
                self.interchange = Some(open_interchange(segment));
            }
            b"IEA" => self.end_interchange(segment),
            b"GS" => {
                self.close_group(segment.offset, "another GS follows before its GE");
                self.open_group(definitions, segment);
            }
            b"GE" => self.end_group(segment),
            b"ST" => {
                self.close_set(segment.offset, "another ST follows before its SE");
                self.open_set(definitions, segment);
            }
            id => match &mut self.set {
                Some(set) => {
                    set.segment(segment);
                    if id == b"SE" {
                        self.end_set(segment);
                    }
                }
                None => {
                    let id = segment.text(0);
                    self.envelope_fault("024", &id, segment.offset, format!("{id} stands outside any transaction set"));
                }
            },
        }
    }

    fn unread(&mut self, bytes: Range<u64>, why: UnreadWhy) {
        let says = match why {
            UnreadWhy::NoHeader => "no interchange header starts here",
            UnreadWhy::SegmentTooLong => "a segment is longer than the limit",
            UnreadWhy::AfterFault => "the rest of an interchange that could not be read",
        };
        self.close_interchange(bytes.start, says);
        self.done.unread.push(Unread { bytes, says: says.to_owned() });
    }

    fn open_group(&mut self, definitions: &Definitions, segment: &Segment<'_>) {
        let mut group = Group {
            functional_id: segment.text(1),
            sender: segment.text(2),
            receiver: segment.text(3),
            control: segment.text(6),
            version: segment.text(8),
            included: None,
            sets: Vec::new(),
            faults: Vec::new(),
        };
        if !definitions.knows_version(&group.version) {
            let says = format!("version {} is not supported", group.version);
            group.faults.push(Fault::at(Level::Group, "2", "GS", segment.offset, says));
        }
        if group.control.is_empty() || !group.control.bytes().all(|byte| byte.is_ascii_digit()) {
            let says = format!("GS06 is no control number: {}", group.control);
            group.faults.push(Fault::at(Level::Group, "6", "GS", segment.offset, says));
        }
        self.group = Some(group);
    }

    fn open_set(&mut self, definitions: &'d Definitions, segment: &Segment<'_>) {
        let (set, control) = (segment.text(1), segment.text(2));
        let Some(group) = &self.group else {
            self.envelope_fault("024", "ST", segment.offset, "ST stands outside any functional group".to_owned());
            return;
        };
        let definition: Option<&'d SetDefinition> = definitions.find(&group.version, &set).map(AsRef::as_ref);
        let mut reading =
            SetReading { bytes: segment.offset..segment.end, segments: 0, faults: Vec::new(), set: set.clone(), control };
        if definition.is_none() {
            let says = format!("transaction set {set} is not supported in version {}", group.version);
            reading.faults.push(Fault::at(Level::Set, "1", "ST", segment.offset, says));
        } else if definition.is_some_and(|definition| definition.functional_id != group.functional_id) {
            let says = format!("transaction set {set} does not belong in a group {}", group.functional_id);
            reading.faults.push(Fault::at(Level::Set, "6", "ST", segment.offset, says));
        }
        let mut open = OpenSet { reading, checker: definition.map(Checker::new) };
        open.segment(segment);
        self.set = Some(open);
    }

    fn end_set(&mut self, segment: &Segment<'_>) {
        let Some(mut set) = self.set.take() else { return };
        set.trailer(segment);
        self.keep(set);
    }

    fn close_set(&mut self, end: u64, says: &str) {
        if let Some(mut set) = self.set.take() {
            set.reading.bytes.end = end;
            set.reading.faults.push(Fault::at(Level::Set, "2", "ST", set.reading.bytes.start, says));
            self.keep(set);
        }
    }

    fn keep(&mut self, set: OpenSet<'d>) {
        if let Some(group) = &mut self.group {
            group.sets.push(set.done());
        }
    }

    fn end_group(&mut self, segment: &Segment<'_>) {
        self.close_set(segment.offset, "GE follows before its SE");
        let Some(mut group) = self.group.take() else {
            self.envelope_fault("024", "GE", segment.offset, "GE without a GS before it".to_owned());
            return;
        };
        let (count, control) = (segment.text(1), segment.text(2));
        group.included = count.parse().ok();
        if group.included != Some(group.sets.len() as u32) {
            let says = format!("GE01 says {count} sets, {} were read", group.sets.len());
            group.faults.push(Fault::at(Level::Group, "5", "GE", segment.offset, says));
        }
        if control.trim_start_matches('0') != group.control.trim_start_matches('0') {
            let says = format!("GE02 is {control}, GS06 is {}", group.control);
            group.faults.push(Fault::at(Level::Group, "4", "GE", segment.offset, says));
        }
        if let Some(interchange) = &mut self.interchange {
            interchange.groups.push(group);
        }
    }

    fn close_group(&mut self, end: u64, says: &str) {
        self.close_set(end, says);
        if let Some(mut group) = self.group.take() {
            group.faults.push(Fault::at(Level::Group, "3", "GS", end, says));
            if let Some(interchange) = &mut self.interchange {
                interchange.groups.push(group);
            }
        }
    }

    fn end_interchange(&mut self, segment: &Segment<'_>) {
        self.close_group(segment.offset, "IEA follows before its GE");
        let Some(mut interchange) = self.interchange.take() else { return };
        interchange.bytes.end = segment.end;
        let (count, control) = (segment.text(1), segment.text(2));
        if count.parse() != Ok(interchange.groups.len()) {
            let says = format!("IEA01 says {count} groups, {} were read", interchange.groups.len());
            interchange.faults.push(Fault::at(Level::Interchange, "021", "IEA", segment.offset, says));
        }
        if control != interchange.header.control {
            let says = format!("IEA02 is {control}, ISA13 is {}", interchange.header.control);
            interchange.faults.push(Fault::at(Level::Interchange, "001", "IEA", segment.offset, says));
        }
        self.done.interchanges.push(interchange);
    }

    fn close_interchange(&mut self, end: u64, says: &str) {
        self.close_group(end, says);
        if let Some(mut interchange) = self.interchange.take() {
            interchange.bytes.end = end;
            interchange.faults.push(Fault::at(Level::Interchange, "023", "IEA", end, says));
            self.done.interchanges.push(interchange);
        }
    }

    fn envelope_fault(&mut self, code: &str, segment: &str, offset: u64, says: String) {
        if let Some(interchange) = &mut self.interchange
            && interchange.faults.len() < 100
        {
            interchange.faults.push(Fault::at(Level::Interchange, code, segment, offset, says));
        }
    }
}

impl OpenSet<'_> {
    /// Compares the trailer with what was read: SE01 counts segments, SE02 repeats ST02.
    fn trailer(&mut self, segment: &Segment<'_>) {
        let reading = &mut self.reading;
        reading.bytes.end = segment.end;
        let (count, control) = (segment.text(1), segment.text(2));
        if count.parse() != Ok(reading.segments) {
            let says = format!("SE01 says {count} segments, {} were read", reading.segments);
            reading.faults.push(Fault::at(Level::Set, "4", "SE", segment.offset, says));
        }
        if control != reading.control {
            let says = format!("SE02 is {control}, ST02 is {}", reading.control);
            reading.faults.push(Fault::at(Level::Set, "3", "SE", segment.offset, says));
        }
    }

    fn done(self) -> SetReading {
        let Self { mut reading, checker } = self;
        if let Some(checker) = checker {
            reading.faults.extend(checker.end());
        }
        reading
    }

    fn segment(&mut self, segment: &Segment<'_>) {
        self.reading.segments += 1;
        if let Some(checker) = &mut self.checker {
            checker.segment(segment);
        }
    }
}

/// Checks one transaction set that stands alone, ST to SE, as it would be checked inside its group.
///
/// Offsets count from the start of `bytes`.
#[must_use]
pub fn check_set(definition: &SetDefinition, bytes: &[u8], delimiters: Delimiters) -> SetReading {
    let reading = SetReading {
        set: definition.set.clone(),
        control: String::new(),
        bytes: 0..bytes.len() as u64,
        segments: 0,
        faults: Vec::new(),
    };
    let mut open = OpenSet { reading, checker: Some(Checker::new(definition)) };
    let mut ended = false;
    for (n, segment) in segments(bytes, delimiters).enumerate() {
        if n == 0 {
            open.reading.control = segment.text(2);
        }
        if n == 0 && segment.text(1) != definition.set {
            let says = format!("ST01 is {}, not {}", segment.text(1), definition.set);
            open.reading.faults.push(Fault::at(Level::Set, "6", "ST", segment.offset, says));
        }
        open.segment(&segment);
        if segment.id() == b"SE" {
            open.trailer(&segment);
            ended = true;
        }
    }
    if !ended {
        open.reading.faults.push(Fault::at(Level::Set, "2", "ST", 0, "the set ends before its SE"));
    }
    open.done()
}

fn open_interchange(segment: &Segment<'_>) -> Interchange {
    let control = segment.text(13);
    let mut faults = Vec::new();
    if control.len() != 9 || !control.bytes().all(|byte| byte.is_ascii_digit()) {
        let says = format!("ISA13 is no control number of nine digits: {control}");
        faults.push(Fault::at(Level::Interchange, "022", "ISA", segment.offset, says));
    }
    let header = Header {
        sender: Party { qualifier: segment.text(5), id: segment.text(6) },
        receiver: Party { qualifier: segment.text(7), id: segment.text(8) },
        date: segment.text(9),
        time: segment.text(10),
        version: segment.text(12),
        control,
        wants_ta1: segment.text(14) == "1",
        usage: segment.text(15),
        delimiters: segment.delimiters,
    };
    Interchange { header, bytes: segment.offset..segment.end, groups: Vec::new(), faults }
}
