//! Writes segments and envelopes with their counts.

use crate::{Delimiters, Party};

/// Contents of an outgoing interchange's ISA.
#[derive(Debug, Clone)]
pub struct Envelope {
    pub sender: Party,
    pub receiver: Party,
    /// `CCYYMMDD` and `HHMM`.
    pub date: String,
    pub time: String,
    /// ISA12, e.g. `00401`.
    pub version: String,
    /// ISA13; written with nine digits. Must be below 1,000,000,000.
    pub control: u32,
    /// ISA14: request a TA1.
    pub wants_ta1: bool,
    /// ISA15.
    pub usage: String,
    pub delimiters: Delimiters,
}

/// Contents of an outgoing group's GS. Date and time are those of its interchange.
#[derive(Debug, Clone)]
pub struct GroupHead {
    /// GS01, e.g. `FA`.
    pub functional_id: String,
    /// GS02 and GS03.
    pub sender: String,
    pub receiver: String,
    /// GS06; must be below 1,000,000,000.
    pub control: u32,
    /// GS08, e.g. `004010`.
    pub version: String,
}

/// Rule for a separator inside a value, which would not read back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum OnSeparator {
    /// Replaced by a space.
    #[default]
    Replace,
    /// Nothing is written, and the place is reported.
    Refuse,
}

/// How it is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Style {
    pub on_separator: OnSeparator,
    /// A line end after each segment.
    pub line_ends: bool,
}

/// Why nothing was written.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{designator} contains a separator of the interchange: {value}")]
pub struct SeparatorInside {
    /// E.g. `N102`.
    pub designator: String,
    pub value: String,
}

/// Builds one interchange.
///
/// ```text
/// new ─▶ start_group ─▶ start_set ─▶ segment … ─▶ start_set … ─▶ start_group … ─▶ finish
/// ```
#[derive(Debug)]
pub struct Writer {
    envelope: Envelope,
    style: Style,
    out: Vec<u8>,
    groups: u32,
    group: Option<OpenGroup>,
    /// Segments of the open set, and its control number.
    set: Option<(u32, String)>,
    refused: Option<SeparatorInside>,
}

#[derive(Debug)]
struct OpenGroup {
    control: u32,
    sets: u32,
}

impl Writer {
    /// Starts the interchange.
    #[must_use]
    pub fn new(envelope: Envelope, style: Style) -> Self {
        let mut writer = Self { envelope, style, out: Vec::new(), groups: 0, group: None, set: None, refused: None };
        let e = &writer.envelope;
        let repetition = match e.delimiters.repetition {
            Some(byte) if e.version.as_str() >= "00402" => byte,
            _ => b'U',
        };
        let isa = [
            "ISA".to_owned(),
            "00".to_owned(),
            " ".repeat(10),
            "00".to_owned(),
            " ".repeat(10),
            fixed(&e.sender.qualifier, 2),
            fixed(&e.sender.id, 15),
            fixed(&e.receiver.qualifier, 2),
            fixed(&e.receiver.id, 15),
            fixed(e.date.get(2..).unwrap_or_default(), 6),
            fixed(&e.time, 4),
            char::from(repetition).to_string(),
            fixed(&e.version, 5),
            format!("{:09}", e.control),
            if e.wants_ta1 { "1" } else { "0" }.to_owned(),
            fixed(if e.usage.is_empty() { "P" } else { &e.usage }, 1),
            char::from(e.delimiters.component).to_string(),
        ];
        let element = e.delimiters.element;
        for (n, part) in isa.iter().enumerate() {
            if n > 0 {
                writer.out.push(element);
            }
            // ISA contains the separators that it names as plain bytes; no other value may.
            let d = writer.envelope.delimiters;
            match n {
                11 => writer.out.push(repetition),
                16 => writer.out.push(d.component),
                _ => writer.out.extend(part.bytes().map(|byte| if d.contains(byte) { b' ' } else { byte })),
            }
        }
        writer.terminate();
        writer
    }

    /// Starts a group; one that is open is ended first.
    pub fn start_group(&mut self, head: &GroupHead) {
        self.end_group();
        self.groups += 1;
        self.group = Some(OpenGroup { control: head.control, sets: 0 });
        let (date, time) = (self.envelope.date.clone(), self.envelope.time.clone());
        let control = head.control.to_string();
        self.put(
            "GS",
            [&head.functional_id, &head.sender, &head.receiver, &date, &time, &control, "X", &head.version].into_iter(),
        );
    }

    /// Starts a set, numbered within its group; one that is open is ended first.
    pub fn start_set(&mut self, set: &str) {
        self.start_set_of(set, "");
    }

    /// Starts a set of an implementation convention (ST03, from 005010 on); empty for none.
    pub fn start_set_of(&mut self, set: &str, convention: &str) {
        self.end_set();
        let number = self.group.as_mut().map_or(1, |group| {
            group.sets += 1;
            group.sets
        });
        let control = format!("{number:04}");
        self.set = Some((0, control.clone()));
        self.segment(&["ST", set, &control, convention]);
    }

    /// Writes a segment: its id and elements. Trailing empty
    /// elements are cut.
    pub fn segment(&mut self, parts: &[&str]) {
        if let Some((id, elements)) = parts.split_first() {
            self.count();
            self.put(id, elements.iter().copied());
        }
    }

    /// Writes a segment whose elements may have components and repetitions.
    pub fn structured(&mut self, id: &str, elements: &[crate::plain::Element]) {
        self.count();
        let d = self.envelope.delimiters;
        let mut ends = Vec::with_capacity(elements.len());
        let start = self.out.len();
        self.out.extend(id.bytes());
        ends.push(self.out.len());
        for (n, element) in elements.iter().enumerate() {
            self.out.push(d.element);
            let designator = format!("{id}{:02}", n + 1);
            self.element(element, &designator);
            if !element.is_empty() {
                ends.push(self.out.len());
            }
        }
        self.out.truncate(ends.last().copied().unwrap_or(start));
        self.terminate();
    }

    /// Ends set, group and interchange: the bytes.
    ///
    /// # Errors
    /// [`SeparatorInside`] where a value holds a separator and the style refuses that.
    pub fn finish(mut self) -> Result<Vec<u8>, SeparatorInside> {
        self.end_group();
        let (groups, control) = (self.groups.to_string(), format!("{:09}", self.envelope.control));
        self.put("IEA", [groups.as_str(), &control].into_iter());
        match self.refused {
            Some(refused) => Err(refused),
            None => Ok(self.out),
        }
    }

    /// The bytes, separators replaced whatever the style: what the program itself says always reads back.
    #[must_use]
    pub(crate) fn finish_own(mut self) -> Vec<u8> {
        self.refused = None;
        self.finish().unwrap_or_default()
    }

    fn element(&mut self, element: &crate::plain::Element, designator: &str) {
        use crate::plain::Element;
        let d = self.envelope.delimiters;
        match element {
            Element::Empty => {}
            Element::Text(text) | Element::Number(text) => self.value(text, || designator.to_owned()),
            Element::Components(parts) => {
                let used = parts.iter().rposition(|part| !part.is_empty()).map_or(0, |last| last + 1);
                for (n, part) in parts[..used].iter().enumerate() {
                    if n > 0 {
                        self.out.push(d.component);
                    }
                    self.value(part, || format!("{designator}-{}", n + 1));
                }
            }
            Element::Repeats(all) => {
                for (n, one) in all.iter().enumerate() {
                    if n > 0 {
                        self.out.push(d.repetition.unwrap_or(d.component));
                    }
                    self.element(one, designator);
                }
            }
        }
    }

    fn count(&mut self) {
        if let Some((count, _)) = &mut self.set {
            *count += 1;
        }
    }

    fn end_set(&mut self) {
        if let Some((count, control)) = self.set.take() {
            self.put("SE", [(count + 1).to_string().as_str(), &control].into_iter());
        }
    }

    fn end_group(&mut self) {
        self.end_set();
        if let Some(group) = self.group.take() {
            self.put("GE", [group.sets.to_string().as_str(), &group.control.to_string()].into_iter());
        }
    }

    fn put<'e>(&mut self, id: &str, elements: impl Iterator<Item = &'e str>) {
        self.out.extend(id.bytes());
        let mut used = self.out.len();
        for (n, element) in elements.enumerate() {
            self.out.push(self.envelope.delimiters.element);
            self.value(element, || format!("{id}{:02}", n + 1));
            if !element.is_empty() {
                used = self.out.len();
            }
        }
        self.out.truncate(used);
        self.terminate();
    }

    fn value(&mut self, text: &str, designator: impl Fn() -> String) {
        let d = self.envelope.delimiters;
        if self.style.on_separator == OnSeparator::Refuse && self.refused.is_none() && text.bytes().any(|byte| d.contains(byte)) {
            self.refused = Some(SeparatorInside { designator: designator(), value: text.to_owned() });
        }
        self.out.extend(text.bytes().map(|byte| if d.contains(byte) { b' ' } else { byte }));
    }

    fn terminate(&mut self) {
        self.out.push(self.envelope.delimiters.segment);
        if self.style.line_ends && self.envelope.delimiters.segment != b'\n' {
            self.out.push(b'\n');
        }
    }
}

/// Exactly `width` bytes: cut or padded with spaces, and nothing but printable ASCII, since the
/// positions of an ISA are counted in bytes.
fn fixed(value: &str, width: usize) -> String {
    let clean = value.chars().map(|c| if c.is_ascii_graphic() { c } else { ' ' });
    clean.chain(std::iter::repeat(' ')).take(width).collect()
}
