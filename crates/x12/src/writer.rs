//! Writes segments and envelopes, counting as it goes.

use crate::{Delimiters, Party};

/// What an outgoing interchange says of itself.
#[derive(Debug, Clone)]
pub struct Envelope {
    pub sender: Party,
    pub receiver: Party,
    /// GS02 and GS03.
    pub group_sender: String,
    pub group_receiver: String,
    /// GS01, e.g. `FA`.
    pub functional_id: String,
    /// GS08, e.g. `004010`.
    pub version: String,
    /// `CCYYMMDD` and `HHMM`.
    pub date: String,
    pub time: String,
    /// ISA13; written with nine digits. Must be below 1,000,000,000.
    pub interchange_control: u32,
    /// GS06; must be below 1,000,000,000.
    pub group_control: u32,
    /// ISA15.
    pub usage: String,
    pub delimiters: Delimiters,
}

/// Builds one interchange with one group.
///
/// A separator inside a value is replaced by a space: what is written always reads back.
#[derive(Debug)]
pub struct Writer {
    envelope: Envelope,
    out: Vec<u8>,
    sets: u32,
    /// Segments of the open set, and its control number.
    open: Option<(u32, String)>,
}

impl Writer {
    /// Starts the interchange and its group.
    #[must_use]
    pub fn new(envelope: Envelope) -> Self {
        let mut writer = Self { envelope, out: Vec::new(), sets: 0, open: None };
        let e = writer.envelope.clone();
        let component = char::from(e.delimiters.component).to_string();
        let repetition = e.delimiters.repetition.map_or("U".to_owned(), |byte| char::from(byte).to_string());
        let isa = [
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
            repetition,
            "00401".to_owned(),
            format!("{:09}", e.interchange_control),
            "0".to_owned(),
            fixed(if e.usage.is_empty() { "P" } else { &e.usage }, 1),
        ];
        // ISA16 is the component separator itself, so it is the one value not cleaned.
        writer.put("ISA", &isa.each_ref().map(String::as_str));
        writer.out.pop();
        writer.out.push(e.delimiters.element);
        writer.out.extend(component.bytes());
        writer.out.push(e.delimiters.segment);
        let group = e.group_control.to_string();
        let gs = [&e.functional_id, &e.group_sender, &e.group_receiver, &e.date, &e.time, &group, "X", &e.version];
        writer.put("GS", &gs.map(|value: &str| value));
        writer
    }

    /// Starts a set; a set that is open is ended first.
    pub fn start_set(&mut self, set: &str) {
        self.end_set();
        self.sets += 1;
        let control = format!("{:04}", self.sets);
        self.open = Some((0, control.clone()));
        self.segment(&["ST", set, &control]);
    }

    /// Writes a segment: its id and elements. Trailing empty elements are cut.
    pub fn segment(&mut self, parts: &[&str]) {
        if let Some((count, _)) = &mut self.open {
            *count += 1;
        }
        if let Some((id, elements)) = parts.split_first() {
            self.put(id, elements);
        }
    }

    /// Ends set, group and interchange: the bytes.
    #[must_use]
    pub fn finish(mut self) -> Vec<u8> {
        self.end_set();
        let group = self.envelope.group_control.to_string();
        let interchange = format!("{:09}", self.envelope.interchange_control);
        self.put("GE", &[&self.sets.to_string(), &group]);
        self.put("IEA", &["1", &interchange]);
        self.out
    }

    fn end_set(&mut self) {
        if let Some((count, control)) = self.open.take() {
            self.put("SE", &[&(count + 1).to_string(), &control]);
        }
    }

    fn put(&mut self, id: &str, elements: &[&str]) {
        let d = self.envelope.delimiters;
        let used = elements.iter().rposition(|element| !element.is_empty()).map_or(0, |last| last + 1);
        self.out.extend(id.bytes());
        for element in &elements[..used] {
            self.out.push(d.element);
            let repetition_marker = id == "ISA" && element.len() == 1;
            self.out.extend(element.bytes().map(|byte| if d.contains(byte) && !repetition_marker { b' ' } else { byte }));
        }
        self.out.push(d.segment);
    }
}

/// Exactly `width` bytes: cut or padded with spaces, and nothing but printable ASCII, since the
/// positions of an ISA are counted in bytes.
fn fixed(value: &str, width: usize) -> String {
    let clean = value.chars().map(|c| if c.is_ascii_graphic() { c } else { ' ' });
    clean.chain(std::iter::repeat(' ')).take(width).collect()
}
