//! Envelopes: contents and faults of ISA, GS, GE and IEA.

use crate::check::{is_date, is_time};
use crate::fault::{Fault, Level, printable};
use crate::{Delimiters, Segment};
use serde::{Deserialize, Serialize};

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
    /// ISA14: a TA1 is requested.
    pub wants_ta1: bool,
    /// ISA15: `P` production, `T` test, `I` information.
    pub usage: String,
    pub delimiters: Delimiters,
}

impl Header {
    pub(crate) fn of(segment: &Segment<'_>) -> Self {
        Self {
            sender: Party { qualifier: segment.text(5), id: segment.text(6) },
            receiver: Party { qualifier: segment.text(7), id: segment.text(8) },
            date: segment.text(9),
            time: segment.text(10),
            version: segment.text(12),
            control: segment.text(13),
            wants_ta1: segment.text(14) == "1",
            usage: segment.text(15),
            delimiters: segment.delimiters,
        }
    }
}

/// English names of the elements of ISA, in order (X12.5).
pub const ISA_NAMES: [&str; 16] = [
    "Authorization Information Qualifier",
    "Authorization Information",
    "Security Information Qualifier",
    "Security Information",
    "Interchange ID Qualifier (sender)",
    "Interchange Sender ID",
    "Interchange ID Qualifier (receiver)",
    "Interchange Receiver ID",
    "Interchange Date",
    "Interchange Time",
    "Interchange Control Standards Identifier, or Repetition Separator",
    "Interchange Control Version Number",
    "Interchange Control Number",
    "Acknowledgment Requested",
    "Usage Indicator",
    "Component Element Separator",
];

/// English names of the elements of TA1, in order (X12.5).
pub const TA1_NAMES: [&str; 5] = [
    "Interchange Control Number",
    "Interchange Date",
    "Interchange Time",
    "Interchange Acknowledgment Code",
    "Interchange Note Code",
];

/// Meanings of TA105 codes (data element I18, X12.5).
pub const NOTES: [(&str, &str); 32] = [
    ("000", "No error"),
    ("001", "The interchange control numbers in header and trailer do not match"),
    ("002", "The standard named as the control standard is not supported"),
    ("003", "This version of the controls is not supported"),
    ("004", "The segment terminator is invalid"),
    ("005", "Invalid interchange ID qualifier for sender"),
    ("006", "Invalid interchange sender ID"),
    ("007", "Invalid interchange ID qualifier for receiver"),
    ("008", "Invalid interchange receiver ID"),
    ("009", "Unknown interchange receiver ID"),
    ("010", "Invalid authorization information qualifier"),
    ("011", "Invalid authorization information"),
    ("012", "Invalid security information qualifier"),
    ("013", "Invalid security information"),
    ("014", "Invalid interchange date"),
    ("015", "Invalid interchange time"),
    ("016", "Invalid interchange standards identifier"),
    ("017", "Invalid interchange version ID"),
    ("018", "Invalid interchange control number"),
    ("019", "Invalid acknowledgment requested value"),
    ("020", "Invalid test indicator"),
    ("021", "Invalid number of included groups"),
    ("022", "Invalid control structure"),
    ("023", "Improper (premature) end of the interchange"),
    ("024", "Invalid interchange content, e.g. an invalid GS segment"),
    ("025", "Duplicate interchange control number"),
    ("026", "Invalid data element separator"),
    ("027", "Invalid component element separator"),
    ("028", "Invalid delivery date in deferred delivery request"),
    ("029", "Invalid delivery time in deferred delivery request"),
    ("030", "Invalid delivery time code in deferred delivery request"),
    ("031", "Invalid grade of service"),
];

/// Interchange ID qualifiers (data element I05, X12.5): the whole list.
const QUALIFIERS: [&str; 41] = [
    "01", "02", "03", "04", "07", "08", "09", "10", "11", "12", "13", "14", "15", "16", "17", "18", "19", "20", "21", "22", "23",
    "24", "25", "26", "27", "28", "29", "30", "31", "32", "33", "34", "35", "36", "37", "38", "AM", "NR", "SA", "SN", "ZZ",
];

/// Returns the faults of an ISA, with codes of TA105.
pub(crate) fn header_faults(isa: &Segment<'_>) -> Vec<Fault> {
    let digits = |n: usize| isa.element(n).iter().all(u8::is_ascii_digit);
    let one_of = |n: usize, codes: &[&str]| codes.iter().any(|code| code.as_bytes() == isa.element(n));
    let filled = |n: usize| isa.element(n).iter().any(|byte| !byte.is_ascii_whitespace());
    let text = |n: usize| String::from_utf8_lossy(isa.element(n)).into_owned();
    let version = text(12);
    // Before 00402 this names the standard; after, the byte separates repetitions.
    let repeats = version.as_str() >= "00402" && isa.element(11).first().is_some_and(|byte| !byte.is_ascii_alphanumeric());
    let standard = isa.element(11) == b"U" || repeats;
    let d = isa.delimiters;
    let separates = isa.element(11).first().is_some_and(|byte| [d.element, d.component, d.segment].contains(byte));
    let rules: [(bool, &'static str, usize, &str); 15] = [
        (one_of(1, &["00", "01", "02", "03", "04", "05", "06"]), "010", 1, "is not a qualifier of authorization information"),
        (one_of(3, &["00", "01"]), "012", 3, "is not a qualifier of security information"),
        (one_of(5, &QUALIFIERS), "005", 5, "is not an interchange ID qualifier"),
        (filled(6), "006", 6, "is empty: an interchange names its sender"),
        (one_of(7, &QUALIFIERS), "007", 7, "is not an interchange ID qualifier"),
        (filled(8), "008", 8, "is empty: an interchange names its receiver"),
        (is_date(&text(9)), "014", 9, "is not a date YYMMDD"),
        (is_time(isa.element(10)), "015", 10, "is not a time HHMM"),
        (standard, "016", 11, "is not a control standard"),
        (!(repeats && separates), "016", 11, "separates repetitions and something else too"),
        (digits(12) && ("00200".."00900").contains(&version.as_str()), "017", 12, "is not a version of the controls"),
        (digits(13), "018", 13, "is not a control number of nine digits"),
        (one_of(14, &["0", "1"]), "019", 14, "is neither 0 nor 1"),
        (one_of(15, &["I", "P", "T"]), "020", 15, "is not one of P, T and I"),
        (!isa.element(16).iter().any(u8::is_ascii_alphanumeric), "027", 16, "cannot separate components"),
    ];
    let broken = rules.into_iter().filter(|(fine, ..)| !fine);
    broken
        .map(|(_, code, n, what)| {
            let says = format!("ISA{n:02} {what}: {}", printable(isa.element(n)).trim());
            Fault::at(Level::Interchange, code, "ISA", isa.offset, says).of_element(isa, n)
        })
        .collect()
}
