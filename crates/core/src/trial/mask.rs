//! Personal data made unrecognisable, with unchanged form.
//!
//! | masked | in JSON, XML, CSV and records | in X12 |
//! |---|---|---|
//! | names, streets, towns, postal codes | fields whose name or title says so, with all that is below them | N1, N2, N3, N4, NM1 |
//! | telephone numbers, mail addresses | such fields, fields of the format `email`, and every text that looks like a mail address | PER, and every element that looks like a mail address |
//! | birthdays, numbers of bank accounts and passports | fields whose name or title says so | DMG |
//! | free text | fields called note or remark | NTE, MSG |

use crate::schema::{Schema, Written};
use crate::x12::{Delimiters, Tokens};
use serde_json::{Number, Value};
use std::collections::{BTreeMap, BTreeSet};

/// Words in the name or title of a field with personal data.
const WORDS: [&str; 21] = [
    "name",
    "street",
    "address",
    "phone",
    "mobile",
    "fax",
    "mail",
    "contact",
    "person",
    "buyer",
    "parcel_to",
    "city",
    "town",
    "postal",
    "postcode",
    "zip",
    "birth",
    "iban",
    "passport",
    "note",
    "remark",
];
/// Elements of X12 with personal data.
const ELEMENTS: [(&str, &[usize]); 9] = [
    ("N1", &[2]),
    ("N2", &[1, 2]),
    ("N3", &[1, 2]),
    ("N4", &[1, 3]),
    ("NM1", &[3, 4, 5, 9]),
    ("PER", &[2, 4, 6, 8]),
    ("DMG", &[2]),
    ("NTE", &[2]),
    ("MSG", &[1]),
];

/// A masked document.
#[derive(Debug, PartialEq, Eq)]
pub struct Masked {
    pub bytes: Vec<u8>,
    /// Masked values, by path or by segment and element, with counts.
    pub what: BTreeMap<String, usize>,
}

/// Masks a document: letters and digits of personal data become `x` and `0`; lengths and separators stay, so that it can be read
/// as before. `schema` describes its form and the fields with personal data, if there is one.
///
/// # Errors
/// A sentence, for a document that is neither JSON nor X12 and has no schema: its content is unknown.
pub fn mask(bytes: &[u8], schema: Option<(&Schema, Written)>) -> Result<Masked, String> {
    if let Some(delimiters) = Delimiters::of_isa(bytes) {
        return Ok(in_x12(bytes, delimiters));
    }
    let mut masking = Masking { marked: schema.map(|(schema, _)| marked(schema)).unwrap_or_default(), what: BTreeMap::new() };
    let bytes = match schema.filter(|(_, written)| *written != Written::Json) {
        Some((schema, written)) => {
            let mut document = schema.read(written, bytes)?;
            masking.value(&mut document, "", false);
            schema.write(written, &document)?
        }
        None => {
            let read = serde_json::from_slice(bytes);
            let mut document = read.map_err(|_| "it is neither JSON nor X12, and no schema describes it".to_owned())?;
            masking.value(&mut document, "", false);
            serde_json::to_vec_pretty(&document).map_err(|error| error.to_string())?
        }
    };
    Ok(Masked { bytes, what: masking.what })
}

/// Masks JSON in place, such as what outside systems answered; adds to `what`.
pub fn mask_json(value: &mut Value, what: &mut BTreeMap<String, usize>) {
    let mut masking = Masking { marked: BTreeSet::new(), what: std::mem::take(what) };
    masking.value(value, "", false);
    *what = masking.what;
}

fn in_x12(bytes: &[u8], delimiters: Delimiters) -> Masked {
    let mut masked = bytes.to_vec();
    let mut what = BTreeMap::new();
    for segment in Tokens::new(bytes, delimiters).iter() {
        let id = segment.id();
        // An envelope names companies and numbers documents, and is needed to read them.
        if [&b"ISA"[..], b"GS", b"ST", b"SE", b"GE", b"IEA"].contains(&id) {
            continue;
        }
        let own = ELEMENTS.iter().find(|(known, _)| known.as_bytes() == id).map_or(&[][..], |(_, elements)| elements);
        for element in 1..=segment.count() {
            let span = segment.span(element);
            let text = &mut masked[span.start as usize..span.end as usize];
            let personal = own.contains(&element) || std::str::from_utf8(text).is_ok_and(is_mail);
            if personal && !text.is_empty() {
                text.iter_mut().for_each(|byte| *byte = masked_byte(*byte, &delimiters));
                *what.entry(format!("{}{element:02}", String::from_utf8_lossy(id))).or_default() += 1;
            }
        }
    }
    Masked { bytes: masked, what }
}

fn masked_byte(byte: u8, delimiters: &Delimiters) -> u8 {
    match byte {
        // Whatever separates must stay, also where a partner separates by letters.
        byte if [delimiters.element, delimiters.segment].contains(&byte) || delimiters.component == byte => byte,
        b'0'..=b'9' => b'0',
        b'a'..=b'z' => b'x',
        b'A'..=b'Z' => b'X',
        0x80.. => b'x',
        other => other,
    }
}

/// The paths of fields that a schema marks: by format, name or title.
fn marked(schema: &Schema) -> BTreeSet<String> {
    let mut marked = BTreeSet::new();
    schema.level().each("", &mut |path, leaf| {
        if ["email", "idn-email"].contains(&leaf.format.as_str()) || says_personal(&leaf.title) {
            marked.insert(path.replace("[]", "").trim_start_matches('.').to_owned());
        }
    });
    marked
}

fn says_personal(name: &str) -> bool {
    let lower = name.to_lowercase();
    WORDS.iter().any(|word| lower.contains(word))
}

/// Returns whether a text looks like a mail address: a local part, an at sign, and a host with a dot.
fn is_mail(text: &str) -> bool {
    text.split(|c: char| c.is_whitespace() || "<>,;\"".contains(c))
        .any(|word| word.split_once('@').is_some_and(|(local, host)| !local.is_empty() && host.trim_matches('.').contains('.')))
}

struct Masking {
    /// Paths that the schema marks.
    marked: BTreeSet<String>,
    what: BTreeMap<String, usize>,
}

impl Masking {
    fn value(&mut self, value: &mut Value, path: &str, personal: bool) {
        let personal = personal || self.marked.contains(path);
        match value {
            Value::String(text) if personal || is_mail(text) => {
                if text.chars().any(char::is_alphanumeric) {
                    *text = masked_text(text);
                    *self.what.entry(path.to_owned()).or_default() += 1;
                }
            }
            Value::Number(number) if personal => {
                // Leading zeros would not be a number: ones keep its length.
                let ones = number.to_string().chars().map(|c| if c.is_ascii_digit() { '1' } else { c }).collect::<String>();
                if let Ok(ones) = ones.parse::<Number>() {
                    *number = ones;
                    *self.what.entry(path.to_owned()).or_default() += 1;
                }
            }
            Value::Array(items) => items.iter_mut().for_each(|item| self.value(item, path, personal)),
            Value::Object(fields) => {
                for (name, inner) in fields {
                    let path = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
                    self.value(inner, &path, personal || says_personal(name));
                }
            }
            Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) => {}
        }
    }
}

fn masked_text(text: &str) -> String {
    let masked = |c: char| match c {
        c if c.is_numeric() => '0',
        c if c.is_uppercase() => 'X',
        c if c.is_alphabetic() => 'x',
        c => c,
    };
    text.chars().map(masked).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    const ISA: &str =
        "ISA*00*          *00*          *ZZ*MARROWFIELD    *ZZ*QUILLHAVEN     *261123*0700*U*00401*000000001*0*T*>~";

    fn json_of(document: &Value) -> (Value, Vec<String>) {
        let Masked { bytes, what } = mask(document.to_string().as_bytes(), None).unwrap();
        (serde_json::from_slice(&bytes).unwrap(), what.into_keys().collect())
    }

    #[test]
    fn personal_fields_lose_their_letters_and_digits_and_nothing_else_changes() {
        let (masked, what) = json_of(&json!({
            "number": "7", "parcel_to": { "name": "Ida Böhm", "town": "Tansy", "floor": 12 }, "total": 1.10,
            "phones": ["555-01", 55501], "sent_by": "Ida <ida@example.com>", "at": "5 @ 2.50", "empty_name": "",
        }));
        let expected = json!({
            "number": "7", "parcel_to": { "name": "Xxx Xxxx", "town": "Xxxxx", "floor": 11 }, "total": 1.10,
            "phones": ["000-00", 11111], "sent_by": "Xxx <xxx@xxxxxxx.xxx>", "at": "5 @ 2.50", "empty_name": "",
        });
        assert_eq!(masked, expected);
        assert_eq!(what, ["parcel_to.floor", "parcel_to.name", "parcel_to.town", "phones", "sent_by"]);
    }

    #[test]
    fn x12_keeps_its_envelope_and_codes() {
        let set =
            "N1*ST*Ida 4*92*0012~N4*Tansy*HV*05555~PER*OC*Ida*TE*555-01~REF*ZZ*ida@example.com~MSG*ring Ida~PO1*1*5*EA*2.5~";
        let Masked { bytes, what } = mask(format!("{ISA}{set}").as_bytes(), None).unwrap();
        let expected =
            "N1*ST*Xxx 0*92*0012~N4*Xxxxx*HV*00000~PER*OC*Xxx*TE*000-00~REF*ZZ*xxx@xxxxxxx.xxx~MSG*xxxx Xxx~PO1*1*5*EA*2.5~";
        assert_eq!(String::from_utf8_lossy(&bytes), format!("{ISA}{expected}"));
        assert_eq!(what.into_keys().collect::<Vec<_>>(), ["MSG01", "N102", "N401", "N403", "PER02", "PER04", "REF02"]);
    }

    #[test]
    fn what_a_schema_marks_is_masked_however_it_is_written() {
        let node = json!({ "type": "object", "properties": {
            "no": { "type": "string" }, "who": { "type": "string", "title": "Contact person" }, "to": { "type": "string", "format": "email" },
        } });
        let schema = Schema { name: "order".into(), root: node };
        let csv = "no,who,to\nA1,Ida,x\n";
        let masked = mask(csv.as_bytes(), Some((&schema, Written::Csv))).unwrap();
        assert_eq!(String::from_utf8_lossy(&masked.bytes).replace("\r\n", "\n"), "no,who,to\nA1,Xxx,x\n");
        assert_eq!(masked.what.into_keys().collect::<Vec<_>>(), ["to", "who"]);
    }

    #[test]
    fn what_nobody_can_read_is_not_passed_on_as_masked() {
        assert!(mask(b"Ida Boehm, Tansy", None).unwrap_err().contains("neither JSON nor X12"));
    }
}
