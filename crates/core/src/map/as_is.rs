//! Maps that begin with the source as it is: what is changed, dropped and renamed before the rules fill their targets.

use super::{MapError, THE_MAP};
use crate::expr::{EvalError, Expr, Item, Scope};
use serde_json::{Map as Fields, Value};
use std::borrow::Cow;

/// A path of names from the document down, through lists. In a name `*` stands for any characters, at most once; `**` at the
/// beginning stands for any names above.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    text: String,
    anywhere: bool,
    names: Vec<String>,
}

impl Pattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// A sentence: no name, or more than one `*` in one.
    pub fn parse(text: &str) -> Result<Self, String> {
        let (anywhere, rest) = text.strip_prefix("**.").map_or((false, text), |rest| (true, rest));
        let names: Vec<String> = rest.split('.').map(str::to_owned).collect();
        match names.iter().find(|name| name.is_empty() || name.matches('*').count() > 1) {
            None => Ok(Self { text: text.to_owned(), anywhere, names }),
            Some(name) if name.is_empty() => Err(format!("`{text}`: a name is missing")),
            Some(name) => Err(format!("`{name}` has more than one *")),
        }
    }

    /// Returns the text of the pattern.
    #[must_use]
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Returns what `*` in the last name matches at that path; an empty text without a `*`. `None` if the path does not match.
    fn fits<'p>(&self, path: &[&'p str]) -> Option<&'p str> {
        let above = path.len().checked_sub(self.names.len())?;
        if above > 0 && !self.anywhere {
            return None;
        }
        self.names.iter().zip(&path[above..]).try_fold("", |_, (name, own)| match name.split_once('*') {
            None => (name == own).then_some(""),
            Some((before, behind)) => own.strip_prefix(before)?.strip_suffix(behind),
        })
    }

    /// Returns whether the path matches.
    #[must_use]
    pub fn is_of(&self, path: &[&str]) -> bool {
        self.fits(path).is_some()
    }
}

/// Changes of the copied source before the rules.
#[derive(Debug, Clone, Default)]
pub struct AsIs {
    /// Values at such paths are replaced by an expression, with the value as `it`.
    pub change: Vec<(Pattern, Expr, u32)>,
    pub drop: Vec<Pattern>,
    /// The new name, in which `*` is what it matched.
    pub rename: Vec<(Pattern, String)>,
    /// Line of `begin` in the map file, from 1.
    pub line: u32,
}

impl AsIs {
    /// The source so changed.
    pub(super) fn begin<'a>(&'a self, scope: &Scope<'a>) -> Result<Fields<String, Value>, MapError> {
        match scope.it.clone().value().map(Cow::into_owned) {
            Some(Value::Object(fields)) => self.fields(fields, &mut Vec::new(), scope),
            Some(other) => {
                let what = if other.is_array() { "a list" } else { "a single value" };
                let says = format!("a map with `begin = \"as-is\"` needs an object, but the source is {what}");
                Err(self.wrong("the document", says))
            }
            None => Ok(Fields::new()),
        }
    }

    fn wrong(&self, target: &str, says: String) -> MapError {
        MapError {
            target: target.to_owned(),
            expression: "as it is".to_owned(),
            line: self.line,
            map: THE_MAP.to_owned(),
            source: EvalError { span: 0..0, says },
        }
    }

    /// Returns the new names of the fields of one level; none for a dropped field.
    #[must_use]
    pub fn name_of(&self, path: &[&str]) -> Option<String> {
        if self.drop.iter().any(|pattern| pattern.fits(path).is_some()) {
            return None;
        }
        let renamed = self.rename.iter().find_map(|(pattern, name)| Some(name.replace('*', pattern.fits(path)?)));
        renamed.or_else(|| path.last().map(|name| (*name).to_owned()))
    }

    fn fields(
        &self,
        fields: Fields<String, Value>,
        at: &mut Vec<String>,
        scope: &Scope<'_>,
    ) -> Result<Fields<String, Value>, MapError> {
        let mut made = Fields::with_capacity(fields.len());
        for (own, value) in fields {
            at.push(own);
            let path: Vec<&str> = at.iter().map(String::as_str).collect();
            if let Some(name) = self.name_of(&path)
                && let Some(value) = self.value(value, at, scope)?
            {
                if made.contains_key(&name) {
                    let says = format!("two fields of the source would both become `{name}`: drop or rename one of them");
                    return Err(self.wrong(&at.join("."), says));
                }
                made.insert(name, value);
            }
            at.pop();
        }
        Ok(made)
    }

    fn value(&self, value: Value, at: &mut Vec<String>, scope: &Scope<'_>) -> Result<Option<Value>, MapError> {
        match value {
            Value::Object(fields) => Ok(Some(Value::Object(self.fields(fields, at, scope)?))),
            Value::Array(items) => {
                let items = items.into_iter().filter_map(|item| self.value(item, at, scope).transpose());
                Ok(Some(Value::Array(items.collect::<Result<_, _>>()?)))
            }
            scalar => {
                let path: Vec<&str> = at.iter().map(String::as_str).collect();
                let Some((pattern, change, line)) = self.change.iter().find(|(pattern, ..)| pattern.fits(&path).is_some()) else {
                    return Ok(Some(scalar));
                };
                let inner = Scope { it: Item::Json(Cow::Owned(scalar.clone())), position: None, ..scope.clone() };
                let made = change.one(&inner).map_err(|source| MapError {
                    target: format!("{} ({})", at.join("."), pattern.text),
                    expression: change.text.clone(),
                    line: *line,
                    map: THE_MAP.to_owned(),
                    source,
                })?;
                // `null` of which nothing is made stays what it is.
                Ok(made.map(Cow::into_owned).or_else(|| scalar.is_null().then_some(Value::Null)))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::Pattern;

    #[test]
    fn patterns_fit_paths() {
        let fits = |pattern: &str, path: &str| {
            Pattern::parse(pattern).unwrap().fits(&path.split('.').collect::<Vec<_>>()).map(str::to_owned)
        };
        assert_eq!(fits("a.b", "a.b").as_deref(), Some(""));
        assert_eq!(fits("ship_*", "ship_to").as_deref(), Some("to"));
        assert_eq!(fits("*.on", "a.on").as_deref(), Some(""));
        assert_eq!(fits("**.*_on", "a.b.made_on").as_deref(), Some("made"));
        assert_eq!((fits("a", "a.b"), fits("b", "a.b"), fits("**.a.b", "b")), (None, None, None));
        assert_eq!(Pattern::parse("a..b"), Err("`a..b`: a name is missing".to_owned()));
        assert_eq!(Pattern::parse("a*b*"), Err("`a*b*` has more than one *".to_owned()));
    }
}
