//! Reads interchanges: envelopes, groups and sets, each with its verdict, in one pass and bounded memory.

use crate::check::{Checker, Tolerance};
use crate::controls::Controls;
use crate::definitions::{Definitions, SetDefinition};
use crate::envelope::{Header, header_faults};
use crate::fault::{Fault, Level};
use crate::reading::{Group, Interchange, Reading, SetAck, SetReading, Unread};
use crate::scanner::{Item, Limits, Scanner, UnreadWhy};
use crate::segment::Tokens;
use crate::{Delimiters, Segment};
use std::ops::Range;
use std::sync::Arc;

/// Terms for reading an interchange: definitions and tolerances.
#[derive(Debug, Clone)]
pub struct Terms {
    pub definitions: Arc<Definitions>,
    pub tolerated: Arc<[Tolerance]>,
}

/// Chooses the terms for an interchange by its header: partners have guides of their own.
type Choice = Box<dyn Fn(&Header) -> Terms + Send + Sync>;

/// Push parser from bytes to a [`Reading`].
///
/// [`feed`](Self::feed) bytes as they come, then [`finish`](Self::finish). Memory grows with the
/// number of sets (some 200 bytes each) and their faults, not with their size.
pub struct Reader {
    terms: Choice,
    scanner: Scanner,
    envelopes: Envelopes,
}

impl std::fmt::Debug for Reader {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Reader").field("offset", &self.scanner.offset()).finish_non_exhaustive()
    }
}

/// The open envelopes, and the complete interchanges.
#[derive(Debug, Default)]
struct Envelopes {
    done: Reading,
    interchange: Option<(Interchange, Terms)>,
    group: Option<Group>,
    set: Option<OpenSet>,
    /// ST02 of the sets of the open group, and GS06 of the groups of the open interchange.
    controls: Controls,
    groups: Controls,
    faulty_only: bool,
}

#[derive(Debug)]
struct OpenSet {
    reading: SetReading,
    tolerated: Arc<[Tolerance]>,
    checker: Option<Checker>,
}

/// Bytes fed at a time from an input that is in memory: few enough to stay in a near cache.
const PIECE: usize = 256 << 10;

impl Reader {
    /// A reader at the start of an input.
    #[must_use]
    pub fn new(definitions: &Arc<Definitions>, limits: Limits) -> Self {
        let terms = Terms { definitions: definitions.clone(), tolerated: [].into() };
        Self::choosing(move |_| terms.clone(), limits)
    }

    /// Creates a reader that asks for the terms of each interchange.
    #[must_use]
    pub fn choosing(terms: impl Fn(&Header) -> Terms + Send + Sync + 'static, limits: Limits) -> Self {
        Self { terms: Box::new(terms), scanner: Scanner::new(limits), envelopes: Envelopes::default() }
    }

    /// Keeps of the sets only those that something was found in; all are counted. Memory then does not grow with
    /// the number of sound sets.
    #[must_use]
    pub fn keeping_faulty(mut self) -> Self {
        self.envelopes.faulty_only = true;
        self
    }

    /// Reads a whole input that is in memory.
    #[must_use]
    pub fn read(definitions: &Arc<Definitions>, bytes: &[u8]) -> Reading {
        let Self { terms, envelopes, .. } = Self::new(definitions, Limits::default());
        envelopes.read(&terms, Scanner::over(bytes, Limits::default()))
    }

    /// Takes the next bytes of the input.
    pub fn feed(&mut self, bytes: &[u8]) {
        for piece in bytes.chunks(PIECE) {
            self.scanner.feed(piece);
            self.envelopes.drain(&self.terms, &mut self.scanner);
        }
    }

    /// Ends the input and gives what was read.
    #[must_use]
    pub fn finish(mut self) -> Reading {
        self.scanner.finish();
        self.envelopes.read(&self.terms, self.scanner)
    }
}

impl Envelopes {
    /// Reads what is left of an input that is at its end.
    fn read<H: AsRef<[u8]>>(mut self, terms: &Choice, mut scanner: Scanner<H>) -> Reading {
        self.drain(terms, &mut scanner);
        self.close_interchange(scanner.offset(), "the input ends before its IEA");
        self.done
    }

    fn drain<H: AsRef<[u8]>>(&mut self, terms: &Choice, scanner: &mut Scanner<H>) {
        while let Some(item) = scanner.next_item() {
            match item {
                Item::Segment(segment) => self.segment(terms, &segment),
                Item::Unread { from, to, why } => self.unread(from..to, why),
            }
        }
    }

    fn segment(&mut self, terms: &Choice, segment: &Segment<'_>) {
        match segment.id() {
            b"ISA" => {
                self.close_interchange(segment.offset, "another ISA follows before its IEA");
                let header = Header::of(segment);
                let terms = terms(&header);
                let bytes = segment.offset..segment.end;
                let interchange = Interchange { header, bytes, groups: Vec::new(), faults: header_faults(segment) };
                self.interchange = Some((interchange, terms));
                self.groups = Controls::default();
            }
            b"IEA" => self.end_interchange(segment),
            b"GS" => {
                self.close_group(segment.offset, "another GS follows before its GE");
                self.open_group(segment);
            }
            b"GE" => self.end_group(segment),
            b"ST" => {
                self.close_set(segment.offset, "another ST follows before its SE");
                self.open_set(segment);
            }
            // TA1 segments are between ISA and GS.
            b"TA1" if self.group.is_none() => {}
            id => match &mut self.set {
                Some(set) => {
                    set.segment(segment);
                    if id == b"SE" {
                        self.end_set(segment);
                    }
                }
                None => {
                    let id = segment.text(0);
                    self.envelope_fault("024", &id, segment, format!("{id} is outside any transaction set"));
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

    fn definitions(&self) -> Option<&Definitions> {
        self.interchange.as_ref().map(|(_, terms)| terms.definitions.as_ref())
    }

    fn open_group(&mut self, segment: &Segment<'_>) {
        let mut group = Group {
            functional_id: segment.text(1),
            sender: segment.text(2),
            receiver: segment.text(3),
            control: segment.text(6),
            version: segment.text(8),
            included: None,
            received: 0,
            sound: 0,
            sets: Vec::new(),
            faults: Vec::new(),
        };
        let mut fault = |code: &'static str, element: usize, says: String| {
            group.faults.push(Fault::at(Level::Group, code, "GS", segment.offset, says).of_element(segment, element));
        };
        let known = self.definitions().is_some_and(|definitions| definitions.knows_version(&segment.text(8)));
        let supported =
            self.definitions().is_some_and(|definitions| definitions.all().any(|set| set.functional_id == segment.text(1)));
        if !supported {
            fault("1", 1, format!("functional group {} is not supported", segment.text(1)));
        }
        if !known {
            fault("2", 8, format!("version {} is not supported", segment.text(8)));
        }
        let control = segment.text(6);
        if control.is_empty() || control.len() > 9 || !control.bytes().all(|byte| byte.is_ascii_digit()) {
            fault("6", 6, format!("GS06: expected a control number, found `{control}`"));
        }
        // Data element 716 has a code for this only in later versions; in 004010 the number violates the syntax of its envelope.
        if !self.groups.insert(&control) {
            let code = if segment.text(8).as_str() >= "005010" { "19" } else { "6" };
            fault(code, 6, format!("GS06 {control} is used by another group of the interchange too"));
        }
        self.group = Some(group);
        self.controls = Controls::default();
    }

    fn open_set(&mut self, segment: &Segment<'_>) {
        let (set, control) = (segment.text(1), segment.text(2));
        let (Some(group), Some((_, terms))) = (&self.group, &self.interchange) else {
            self.envelope_fault("022", "ST", segment, "ST is outside any functional group".to_owned());
            return;
        };
        let definition = terms.definitions.find(&group.version, &set);
        let mut reading =
            SetReading { bytes: segment.offset..segment.end, segments: 0, faults: Vec::new(), set: set.clone(), control };
        let mut fault = |code: &'static str, element: usize, says: String| {
            let fault = Fault::at(Level::Set, code, "ST", segment.offset, says).of_element(segment, element);
            reading.faults.push(Fault { position: 1, ..fault });
        };
        match definition {
            None if set.is_empty() => fault("6", 1, "ST01 (transaction set) is empty".to_owned()),
            None => fault("1", 1, format!("transaction set {set} is not supported in version {}", group.version)),
            Some(known) if known.functional_id != group.functional_id => {
                fault("6", 1, format!("a {set} is not allowed in a group of {}", group.functional_id));
            }
            Some(_) => {}
        }
        let control = segment.text(2);
        if control.len() < 4 || control.len() > 9 {
            fault("7", 2, format!("ST02: expected a control number of four to nine characters, found `{control}`"));
        } else if !self.controls.insert(&control) {
            fault("23", 2, format!("ST02 {control} is used by another set of the group too"));
        }
        let checker = definition.map(|definition| Checker::tolerating(definition.clone(), terms.tolerated.clone()));
        let mut open = OpenSet { reading, tolerated: terms.tolerated.clone(), checker };
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

    fn keep(&mut self, set: OpenSet) {
        if let Some(group) = &mut self.group {
            let reading = set.done();
            group.received += 1;
            group.sound += u32::from(reading.ack() != SetAck::Rejected);
            if !self.faulty_only || !reading.faults.is_empty() {
                group.sets.push(reading);
            }
        }
    }

    fn end_group(&mut self, segment: &Segment<'_>) {
        self.close_set(segment.offset, "GE follows before its SE");
        let Some(mut group) = self.group.take() else {
            self.envelope_fault("022", "GE", segment, "GE without a GS before it".to_owned());
            return;
        };
        let (count, control) = (segment.text(1), segment.text(2));
        group.included = count.parse().ok();
        if group.included != Some(group.received) {
            let says = format!("GE01 says {count} sets, {} were read", group.received);
            group.faults.push(Fault::at(Level::Group, "5", "GE", segment.offset, says).of_element(segment, 1));
        }
        if control.trim_start_matches('0') != group.control.trim_start_matches('0') {
            let says = format!("GE02 is {control}, GS06 is {}", group.control);
            group.faults.push(Fault::at(Level::Group, "4", "GE", segment.offset, says).of_element(segment, 2));
        }
        if let Some((interchange, _)) = &mut self.interchange {
            interchange.groups.push(group);
        }
    }

    fn close_group(&mut self, end: u64, says: &str) {
        self.close_set(end, says);
        if let Some(mut group) = self.group.take() {
            group.faults.push(Fault::at(Level::Group, "3", "GS", end, says));
            if let Some((interchange, _)) = &mut self.interchange {
                interchange.groups.push(group);
            }
        }
    }

    fn end_interchange(&mut self, segment: &Segment<'_>) {
        self.close_group(segment.offset, "IEA follows before its GE");
        let Some((mut interchange, _)) = self.interchange.take() else { return };
        interchange.bytes.end = segment.end;
        let (count, control) = (segment.text(1), segment.text(2));
        if count.parse() != Ok(interchange.groups.len()) {
            let says = format!("IEA01 says {count} groups, {} were read", interchange.groups.len());
            let fault = Fault::at(Level::Interchange, "021", "IEA", segment.offset, says).of_element(segment, 1);
            interchange.faults.push(fault);
        }
        if control != interchange.header.control {
            let says = format!("IEA02 is {control}, ISA13 is {}", interchange.header.control);
            let fault = Fault::at(Level::Interchange, "001", "IEA", segment.offset, says).of_element(segment, 2);
            interchange.faults.push(fault);
        }
        self.done.interchanges.push(interchange);
    }

    fn close_interchange(&mut self, end: u64, says: &str) {
        self.close_group(end, says);
        if let Some((mut interchange, _)) = self.interchange.take() {
            interchange.bytes.end = end;
            interchange.faults.push(Fault::at(Level::Interchange, "023", "IEA", end, says));
            self.done.interchanges.push(interchange);
        }
    }

    fn envelope_fault(&mut self, code: &'static str, id: &str, segment: &Segment<'_>, says: String) {
        if let Some((interchange, _)) = &mut self.interchange
            && interchange.faults.len() < 100
        {
            interchange.faults.push(Fault::at(Level::Interchange, code, id, segment.offset, says).shown_by(segment));
        }
    }
}

impl OpenSet {
    /// Compares the trailer with what was read: SE01 counts segments, SE02 repeats ST02.
    fn trailer(&mut self, segment: &Segment<'_>) {
        let reading = &mut self.reading;
        reading.bytes.end = segment.end;
        let (count, control) = (segment.text(1), segment.text(2));
        let position = reading.segments;
        if count.parse() != Ok(reading.segments) {
            let says = format!("SE01 says {count} segments, {} were read", reading.segments);
            let fault = Fault::at(Level::Set, "4", "SE", segment.offset, says).of_element(segment, 1);
            reading.faults.push(Fault { position, ..fault });
        }
        if control != reading.control {
            let says = format!("SE02 is {control}, ST02 is {}", reading.control);
            let fault = Fault::at(Level::Set, "3", "SE", segment.offset, says).of_element(segment, 2);
            reading.faults.push(Fault { position, ..fault });
        }
    }

    fn done(self) -> SetReading {
        let Self { mut reading, tolerated, checker } = self;
        reading.faults.iter_mut().for_each(|fault| Tolerance::weigh(&tolerated, fault));
        if let Some(checker) = checker {
            reading.faults.extend(checker.end(reading.bytes.end));
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

/// Checks one transaction set, ST to SE, as inside its group.
///
/// Offsets count from the start of `bytes`.
#[must_use]
pub fn check_set(definition: &Arc<SetDefinition>, bytes: &[u8], delimiters: Delimiters) -> SetReading {
    let reading = SetReading {
        set: definition.set.clone(),
        control: String::new(),
        bytes: 0..bytes.len() as u64,
        segments: 0,
        faults: Vec::new(),
    };
    let mut open = OpenSet { reading, tolerated: [].into(), checker: Some(Checker::new(definition.clone())) };
    let mut ended = false;
    for segment in Tokens::new(bytes, delimiters).iter() {
        if segment.number == 1 {
            open.reading.control = segment.text(2);
        }
        if segment.number == 1 && segment.text(1) != definition.set {
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
