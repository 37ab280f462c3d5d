//! The nearest known name to a mistyped one.

/// Returns the candidate with the smallest edit distance to `wrong`, if it is near enough to be a typing error.
#[must_use]
pub fn nearest<'a>(wrong: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let limit = (wrong.chars().count() / 3).max(1);
    known
        .into_iter()
        .map(|name| (distance(&wrong.to_lowercase(), &name.to_lowercase()), name))
        .filter(|(distance, _)| *distance <= limit)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, name)| name)
}

/// Levenshtein distance with neighbours swapped counting once.
fn distance(a: &str, b: &str) -> usize {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
    let mut rows = vec![(0..=b.len()).collect::<Vec<_>>()];
    for i in 1..=a.len() {
        let mut row = vec![i; b.len() + 1];
        for j in 1..=b.len() {
            let changed = rows[i - 1][j - 1] + usize::from(a[i - 1] != b[j - 1]);
            row[j] = changed.min(rows[i - 1][j] + 1).min(row[j - 1] + 1);
            if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                row[j] = row[j].min(rows[i - 2][j - 2] + 1);
            }
        }
        rows.push(row);
    }
    rows[a.len()][b.len()]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slip_is_recognised_and_a_stranger_is_not() {
        assert_eq!(nearest("retyr", ["retry", "title"]), Some("retry"));
        assert_eq!(nearest("titel", ["retry", "title"]), Some("title"));
        assert_eq!(nearest("colour", ["retry", "title"]), None);
    }
}
