//! Synonyms of the trade, and where transaction sets have the business fields.

use std::collections::BTreeSet;

/// Words by their meanings.
pub(super) type Words = BTreeSet<u64>;

/// Words that are used alike.
const ALIKE: [&[&str]; 30] = [
    &["quantity", "qty", "count", "piece", "units"],
    &["item", "sku", "article", "product", "part", "material"],
    &["unit", "uom", "measure"],
    &["price", "each", "cost"],
    &["amount", "extended", "sum"],
    &["total", "grand", "due"],
    &["number", "no", "num", "id", "reference", "ref", "key"],
    &["order", "purchase", "po"],
    &["date", "day", "on", "when", "timestamp"],
    &["placed", "created", "ordered", "raised"],
    &["name", "called"],
    &["street", "address", "addr", "road"],
    &["town", "city", "place"],
    &["region", "state", "province", "county"],
    &["postcode", "zip", "postal", "zipcode"],
    &["country", "land", "nation"],
    // A requested date is the delivery date.
    &[
        "deliver",
        "delivery",
        "ship",
        "shipping",
        "parcel",
        "dispatch",
        "recipient",
        "consignee",
        "wished",
        "requested",
        "wanted",
        "needed",
    ],
    &["bill", "billing", "invoice", "payer"],
    &["currency", "curr", "ccy"],
    &["text", "description", "desc", "label", "title"],
    &["row", "line", "position", "pos", "basket", "entry"],
    &["carrier", "via", "shipper", "courier"],
    &["note", "comment", "remark", "memo", "message"],
    &["mail", "email"],
    &["phone", "telephone", "tel", "mobile"],
    &["account", "customer", "client", "buyer", "partner"],
    &["weight", "mass"],
    &["warehouse", "depot", "site", "store", "location"],
    &["stock", "inventory", "hand", "available"],
    &["tax", "vat"],
];
/// Words that say nothing.
const EMPTY: [&str; 13] = ["the", "of", "to", "by", "at", "a", "is", "as", "value", "data", "payload", "body", "document"];

/// Returns the word that a field's format implies.
pub(super) fn of_format(format: &str) -> Words {
    if format.starts_with("date") { words("date") } else { Words::new() }
}

/// Splits a name into words, at signs and capitals, in the singular, each by its meaning.
pub(super) fn words(name: &str) -> Words {
    let mut all = Vec::new();
    let mut word = String::new();
    let mut before = ' ';
    for c in name.chars() {
        let starts = c.is_uppercase() && before.is_lowercase();
        if !c.is_alphabetic() || starts {
            all.push(std::mem::take(&mut word));
        }
        // Digits count fields, as in `address1`; they say nothing.
        if c.is_alphabetic() {
            word.extend(c.to_lowercase());
        }
        before = c;
    }
    all.push(word);
    all.retain(|word| !word.is_empty() && !EMPTY.contains(&word.as_str()));
    let mut found = Words::new();
    let mut at = 0;
    while at < all.len() {
        // `postCode` is one word of the trade in two.
        let both = all.get(at + 1).map(|next| format!("{}{next}", all[at])).filter(|both| group(both).is_some());
        at += if both.is_some() { 2 } else { 1 };
        found.insert(meaning(both.as_deref().unwrap_or(&all[at - 1])));
    }
    found
}

fn group(word: &str) -> Option<usize> {
    let single = singular(word);
    ALIKE.iter().position(|group| group.contains(&word) || group.contains(&single))
}

fn singular(word: &str) -> &str {
    if word.len() > 3 { word.strip_suffix('s').unwrap_or(word) } else { word }
}

/// Returns a number shared by a word and its synonyms.
fn meaning(word: &str) -> u64 {
    if let Some(at) = group(word) {
        return at as u64;
    }
    // FNV-1a, outside the numbers of the synonym groups, so that no word collides with one of them.
    let hash = singular(word)
        .bytes()
        .fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3));
    hash | 1 << 63
}

/// Business fields of an order: the expression, the words for it, and the words for its parents.
pub(super) const HEADER: [(&str, &str, &str); 22] = [
    ("BEG03", "order number", ""),
    ("date(BEG05)", "placed date", ""),
    ("BAK03", "order number", ""),
    ("date(BAK04)", "placed date", ""),
    ("CUR02 else 'USD'", "currency", ""),
    ("date(DTM[01 = '002'].02)", "deliver date", ""),
    ("date(DTM[01 = '010'].02)", "requested deliver date", ""),
    ("REF[01 = 'DP'].02", "department number", ""),
    ("N1[01 = 'ST'].02", "name", "deliver"),
    ("N1[01 = 'ST'].04", "store number", "deliver"),
    ("N1[01 = 'ST'].N301", "street", "deliver"),
    ("N1[01 = 'ST'].N401", "town", "deliver"),
    ("N1[01 = 'ST'].N402", "region", "deliver"),
    ("N1[01 = 'ST'].N403", "postcode", "deliver"),
    ("N1[01 = 'ST'].N404", "country", "deliver"),
    ("N1[01 = 'BT'].02", "name", "bill"),
    ("N1[01 = 'BT'].N301", "street", "bill"),
    ("N1[01 = 'BT'].N401", "town", "bill"),
    ("N1[01 = 'BT'].N402", "region", "bill"),
    ("N1[01 = 'BT'].N403", "postcode", "bill"),
    ("number(CTT.AMT02)", "total", ""),
    ("$meta.partner", "account", ""),
];
/// As [`HEADER`], on a line.
pub(super) const LINE: [(&str, &str, &str); 8] = [
    ("PO101", "row", ""),
    ("number(PO102)", "quantity", ""),
    ("PO103", "unit", ""),
    ("number(PO104)", "price", ""),
    ("round(PO102 * PO104, 2)", "amount", ""),
    ("id(VP) else id(SK)", "item", ""),
    ("id(BP)", "buyer item", ""),
    ("PID05", "text", ""),
];

#[cfg(test)]
mod tests {
    use super::words;

    #[test]
    fn words_are_found_in_names_however_they_are_written() {
        for (one, other) in [("shipTo", "deliver_to"), ("QTY", "Quantity"), ("line-items", "rows article"), ("zip", "postCode")] {
            assert_eq!(words(one), words(other), "{one} {other}");
        }
        assert_ne!(words("hive"), words("frame"));
    }
}
