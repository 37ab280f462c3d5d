//! Edits a map file rule by rule; comments and order stay.

use toml_edit::{ArrayOfTables, DocumentMut, Item, KeyMut, Table, TableLike, value};

/// Most names of a target, lists included: TOML is read no deeper.
const DEPTH: usize = 32;

/// A list that a target is in: its name, and the expression that selects its items.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Within {
    pub into: String,
    /// Empty where it is not known: the list has to be there already.
    pub of: String,
}

/// Returns the targets that a map file fills, with the lists they are in: `rows[].item`. Invalid TOML fills nothing.
#[must_use]
pub fn filled(text: &str) -> Vec<String> {
    let mut all = Vec::new();
    if let Ok(document) = text.parse::<DocumentMut>() {
        targets(document.as_table(), "", &mut all);
    }
    all
}

fn targets(level: &dyn TableLike, at: &str, all: &mut Vec<String>) {
    if let Some(set) = level.get("set").and_then(Item::as_table_like) {
        names(set, at, all);
    }
    for each in level.get("each").and_then(Item::as_array_of_tables).into_iter().flatten() {
        let into = each.get("into").and_then(Item::as_str).unwrap_or_default();
        // Another map fills the items of this list.
        match each.get("by") {
            Some(_) => all.push(format!("{at}{into}")),
            None => targets(each, &format!("{at}{into}[]."), all),
        }
    }
}

fn names(set: &dyn TableLike, at: &str, all: &mut Vec<String>) {
    for (name, item) in set.iter() {
        match item.as_table_like() {
            Some(inner) => names(inner, &format!("{at}{name}."), all),
            None => all.push(format!("{at}{name}")),
        }
    }
}

/// Returns whether one of the targets is that field, or contains it.
#[must_use]
pub fn fills(targets: &[String], field: &str) -> bool {
    // An `each` makes an object, too, where its target is one: the signs of a list say nothing then.
    let plain = |path: &str| path.replace("[]", "");
    let field = plain(field);
    let below =
        |target: &String| field.strip_prefix(plain(target).as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'));
    targets.iter().any(below)
}

/// Returns the map file with one more rule, at the end of its level. Missing lists are created.
///
/// # Errors
/// A sentence: invalid TOML, a target that is filled already, a list whose items another map fills.
pub fn with_rule(text: &str, within: &[Within], target: &[String], expression: &str) -> Result<String, String> {
    if within.len() + target.len() > DEPTH {
        return Err(format!("a target has {DEPTH} names at most"));
    }
    let mut document: DocumentMut = text.parse().map_err(|error: toml_edit::TomlError| {
        let before = error.span().map_or("", |span| text.get(..span.start).unwrap_or(text));
        format!("line {}: {}", before.matches('\n').count() + 1, error.message())
    })?;
    let mut level: &mut Table = document.as_table_mut();
    for list in within {
        level = inside(level, list)?;
    }
    let set = level.entry("set").or_insert_with(|| Item::Table(Table::new()));
    let column = set.as_table_mut().and_then(|set| column(shown_in(set, target)));
    let rules = set.as_table_like_mut().ok_or("`set` must be a table")?;
    put(rules, target, expression)?;
    if let (Some(column), Some(set)) = (column, set.as_table_mut()) {
        align(shown_in(set, target), column);
    }
    Ok(document.to_string())
}

/// Returns the table below whose header the rule of a target is written: `[set.to]` for `to.town` where there is one.
fn shown_in<'t>(mut table: &'t mut Table, target: &[String]) -> &'t mut Table {
    for name in target {
        let below = |table: &Table| table.get(name).and_then(Item::as_table).is_some_and(|inner| !inner.is_dotted());
        if !below(table) {
            break;
        }
        match table.get_mut(name).and_then(Item::as_table_mut) {
            Some(inner) => table = inner,
            None => unreachable!("it was found a line before"),
        }
    }
    table
}

/// Calls `each` with the key of every line below a table's header, and the width of the names before it, with their dots.
fn keys(table: &mut Table, before: usize, each: &mut dyn FnMut(KeyMut<'_>, usize)) {
    for (key, item) in table.iter_mut() {
        match item {
            Item::Table(inner) if inner.is_dotted() => {
                let before = before + key.display_repr().chars().count() + 1;
                keys(inner, before, each);
            }
            Item::Value(_) => each(key, before),
            _ => {}
        }
    }
}

/// Returns the column of the equals signs below a table's header, from 0, if all of them are in one column.
fn column(table: &mut Table) -> Option<usize> {
    let mut columns = Vec::new();
    keys(table, 0, &mut |key, before| {
        let space = key.leaf_decor().suffix().and_then(|space| space.as_str()).map_or(1, str::len);
        columns.push(before + key.display_repr().chars().count() + space);
    });
    let first = *columns.first()?;
    columns.iter().all(|column| *column == first).then_some(first)
}

/// Writes the equals signs in one column: this one, or the next that is wide enough.
fn align(table: &mut Table, column: usize) {
    let mut widest = 0;
    keys(table, 0, &mut |key, before| widest = widest.max(before + key.display_repr().chars().count()));
    let column = column.max(widest + 1);
    keys(table, 0, &mut |mut key, before| {
        let width = before + key.display_repr().chars().count();
        key.leaf_decor_mut().set_suffix(" ".repeat(column - width));
    });
}

fn inside<'t>(level: &'t mut Table, list: &Within) -> Result<&'t mut Table, String> {
    let all = level.entry("each").or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new()));
    let all = all.as_array_of_tables_mut().ok_or("write `each` as [[each]]")?;
    let is = |each: &Table| each.get("into").and_then(Item::as_str) == Some(list.into.as_str());
    let known = all.iter().position(is);
    let at = match known {
        Some(at) => at,
        None if list.of.is_empty() => return Err(format!("no list is given for the items of `{}`", list.into)),
        None => {
            let mut each = Table::new();
            each["of"] = value(&list.of);
            each["into"] = value(&list.into);
            all.push(each);
            all.len() - 1
        }
    };
    let each = all.get_mut(at).ok_or("the list is not there any more")?;
    match each.get("by").and_then(Item::as_str) {
        Some(by) => Err(format!("the map {by} makes the items of `{}`", list.into)),
        None => Ok(each),
    }
}

fn put(set: &mut dyn TableLike, target: &[String], expression: &str) -> Result<(), String> {
    let (name, rest) = target.split_first().ok_or("a rule needs a target")?;
    if rest.is_empty() {
        if set.contains_key(name) {
            return Err(format!("`{name}` is filled already"));
        }
        set.insert(name, value(expression));
        return Ok(());
    }
    if !set.contains_key(name) {
        let mut inner = Table::new();
        inner.set_dotted(true);
        inner.set_implicit(true);
        set.insert(name, Item::Table(inner));
    }
    let inner = set.get_mut(name).and_then(Item::as_table_like_mut);
    put(inner.ok_or_else(|| format!("`{name}` is filled already"))?, rest, expression)
}

/// Splits a field's path, `rows[].deliver_to.town`, into its lists and the names in the innermost. The expressions that select
/// items are taken from `lists`, outermost first, as far as it reaches.
#[must_use]
pub fn place(path: &str, lists: &[Within]) -> (Vec<Within>, Vec<String>) {
    let mut parts: Vec<&str> = path.split("[].").collect();
    let own = parts.pop().unwrap_or_default();
    let within = parts.iter().enumerate().map(|(n, into)| {
        let of = lists.get(n).filter(|list| list.into == *into).map(|list| list.of.clone());
        Within { into: (*into).to_owned(), of: of.unwrap_or_default() }
    });
    (within.collect(), own.split('.').map(str::to_owned).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    const MAP: &str = "# Why it is so.\nfrom = \"a\"\nto   = \"b\"\n\n[set]\nno    = \"id\"  # important\n\n[[each]]\nof   = \"lines\"\ninto = \"rows\"\n\n[each.set]\nitem = \"sku\"\n";

    fn within(pairs: &[(&str, &str)]) -> Vec<Within> {
        pairs.iter().map(|(into, of)| Within { into: (*into).to_owned(), of: (*of).to_owned() }).collect()
    }

    fn added(text: &str, path: &str, lists: &[(&str, &str)], expression: &str) -> Result<String, String> {
        let (within, target) = place(path, &within(lists));
        with_rule(text, &within, &target, expression)
    }

    #[test]
    fn rules_are_added_where_they_belong_and_nothing_else_changes() {
        let one = added(MAP, "to.town", &[], "place.'the town'").unwrap();
        // Equals signs in one column stay in one column.
        let wider =
            MAP.replace("no    = \"id\"  # important\n", "no      = \"id\"  # important\nto.town = \"place.'the town'\"\n");
        assert_eq!(one, wider);
        let two = added(&one, "rows[].pieces", &[("rows", "lines")], "n").unwrap();
        assert_eq!(two, one.replace("item = \"sku\"\n", "item   = \"sku\"\npieces = \"n\"\n"));
        let three = added(&two, "boxes[].of[].weight", &[("boxes", "parcels"), ("of", "it")], "kg").unwrap();
        assert_eq!(
            three,
            two + "\n[[each]]\nof = \"parcels\"\ninto = \"boxes\"\n\n[[each.each]]\nof = \"it\"\ninto = \"of\"\n\n[each.each.set]\nweight = \"kg\"\n"
        );
        assert_eq!(filled(&three), ["no", "to.town", "rows[].item", "rows[].pieces", "boxes[].of[].weight"]);
        assert!(
            fills(&filled(&three), "to.town") && !fills(&filled(&three), "to.town_2") && fills(&["to".to_owned()], "to.town")
        );
    }

    #[test]
    fn a_rule_is_aligned_with_those_around_it() {
        for (set, path, expected) in [
            ("a   = \"x\"\nbcd = \"y\"", "e", "a   = \"x\"\nbcd = \"y\"\ne   = \"v\"\n"),
            ("a   = \"x\"\nbcd = \"y\"", "longer", "a      = \"x\"\nbcd    = \"y\"\nlonger = \"v\"\n"),
            // Where they are not in one column, nothing is moved.
            ("a = \"x\"\nbcd = \"y\"", "e", "a = \"x\"\nbcd = \"y\"\ne = \"v\"\n"),
            ("to.name = \"x\"\nno      = \"y\"", "to.town", "to.name = \"x\"\nto.town = \"v\"\nno      = \"y\"\n"),
            ("\"ü\" = \"x\"", "e", "\"ü\" = \"x\"\ne   = \"v\"\n"),
            // A table of its own has its own column.
            ("number = \"x\"\n[set.to]\na = \"y\"", "to.bc", "number = \"x\"\n[set.to]\na  = \"y\"\nbc = \"v\"\n"),
            ("", "e", "e = \"v\"\n"),
        ] {
            let text = added(&format!("[set]\n{set}\n"), path, &[], "v").unwrap();
            assert_eq!(text.trim_start_matches("[set]\n").trim(), expected.trim(), "{path} to {set}");
        }
    }

    #[test]
    fn what_cannot_be_added_is_reported() {
        assert_eq!(added(MAP, "no", &[], "x"), Err("`no` is filled already".to_owned()));
        assert_eq!(added(MAP, "no.more", &[], "x"), Err("`no` is filled already".to_owned()));
        let unsaid = Err("no list is given for the items of `boxes`".to_owned());
        assert_eq!(added(MAP, "boxes[].x", &[("rows", "y")], "x"), unsaid);
        let by = MAP.replace("\n[each.set]\nitem = \"sku\"\n", "by = \"row\"\n");
        assert_eq!(added(&by, "rows[].x", &[("rows", "y")], "x"), Err("the map row makes the items of `rows`".to_owned()));
        assert!(added("from = ", "a", &[], "x").is_err());
        assert_eq!(added(MAP, &"a.".repeat(100_000), &[], "x"), Err("a target has 32 names at most".to_owned()));
        assert_eq!(filled(&by), ["no", "rows"]);
        assert!(fills(&filled(&by), "rows[].item"));
        let deep = MAP.to_owned() + "\n[[each.each]]\nof = \"it\"\ninto = \"of\"\nby = \"row\"\n";
        assert_eq!(filled(&deep), ["no", "rows[].item", "rows[].of"]);
        assert!(fills(&["to[].town".to_owned()], "to.town") && !fills(&["to[].town".to_owned()], "to.town_2"));
        // An existing list needs no expression for its items.
        assert!(added(MAP, "rows[].pieces", &[], "n").unwrap().ends_with("pieces = \"n\"\n"));
    }
}
