//! Output for people on a terminal: colours, columns, times. Colour accompanies words and never replaces them.

pub use crate::terminal::paint;
use crate::terminal::{Tone, errln, out, outln, safe_json, visible};
use jiff::{Timestamp, tz::TimeZone};
use serde::Serialize;
use similar::{ChangeTag, TextDiff};
use std::fmt::Write as _;
use wirewatch_core::{Finding, Severity};
use wirewatch_service::view::words::{AttemptResult, HoldState, MessageState, OrderState, SubmitOutcome, Verdict};

pub const PLAIN: Tone = Tone::Plain;
pub const DIM: Tone = Tone::Dim;
pub const BOLD: Tone = Tone::Bold;
pub const GOOD: Tone = Tone::Good;
pub const BAD: Tone = Tone::Bad;
pub const WAIT: Tone = Tone::Wait;
pub const MOVE: Tone = Tone::Move;

/// Returns the colour of a state, verdict or result; plain for any other word.
pub fn tone(word: impl AsRef<str>) -> Tone {
    let word = word.as_ref();
    let found = MessageState::parse(word)
        .map(of_message)
        .or_else(|| Verdict::parse(word).map(of_verdict))
        .or_else(|| OrderState::parse(word).map(of_order))
        .or_else(|| HoldState::parse(word).map(of_hold))
        .or_else(|| AttemptResult::parse(word).map(of_attempt))
        .or_else(|| SubmitOutcome::parse(word).map(of_submission));
    found.unwrap_or(PLAIN)
}

fn of_message(state: MessageState) -> Tone {
    match state {
        MessageState::Running => MOVE,
        MessageState::Waiting | MessageState::Retrying => WAIT,
        MessageState::Failed => BAD,
        MessageState::Done => GOOD,
        MessageState::Skipped | MessageState::Discarded => DIM,
    }
}

fn of_verdict(verdict: Verdict) -> Tone {
    match verdict {
        Verdict::Received => GOOD,
        Verdict::Splitting => MOVE,
        Verdict::Duplicate => WAIT,
        Verdict::Rejected | Verdict::Failed => BAD,
        Verdict::Resolved => DIM,
    }
}

fn of_order(state: OrderState) -> Tone {
    match state {
        OrderState::Open => MOVE,
        OrderState::Trouble => BAD,
        OrderState::Done => GOOD,
    }
}

fn of_hold(state: HoldState) -> Tone {
    match state {
        HoldState::OnHold => BAD,
        HoldState::InUse => GOOD,
    }
}

fn of_attempt(result: AttemptResult) -> Tone {
    match result {
        AttemptResult::Done => GOOD,
        AttemptResult::Retry => WAIT,
        AttemptResult::OnHold | AttemptResult::Failed => BAD,
    }
}

fn of_submission(outcome: SubmitOutcome) -> Tone {
    match outcome {
        SubmitOutcome::Done => GOOD,
        SubmitOutcome::Retry => WAIT,
        SubmitOutcome::Refused | SubmitOutcome::Unreachable | SubmitOutcome::InDoubt => BAD,
    }
}

/// Writes JSON for programs.
pub fn json(value: &impl Serialize) {
    written_json(serde_json::to_string_pretty(value));
}

/// Writes JSON for programs that follow: one line a value.
pub fn json_line(value: &impl Serialize) {
    written_json(serde_json::to_string(value));
}

fn written_json(json: serde_json::Result<String>) {
    outln!("{}", safe_json(&json.expect("a value of ours can be written as JSON")));
}

/// A moment as the clock on the wall shows it: today the time alone, otherwise with its day.
pub fn clock(at: &str) -> String {
    let Ok(at) = at.parse::<Timestamp>() else { return String::new() };
    let zone = TimeZone::system();
    let (at, now) = (at.to_zoned(zone.clone()), Timestamp::now().to_zoned(zone));
    if at.date() == now.date() { at.strftime("%H:%M:%S").to_string() } else { at.strftime("%d %b %H:%M").to_string() }
}

/// As [`clock`], with milliseconds.
pub fn exact(at: &str) -> String {
    let Ok(at) = at.parse::<Timestamp>() else { return String::new() };
    at.to_zoned(TimeZone::system()).strftime("%H:%M:%S%.3f").to_string()
}

/// Returns the time from one moment to another, or to now.
pub fn span(from: &str, to: Option<&str>) -> String {
    let Ok(from) = from.parse::<Timestamp>() else { return String::new() };
    let to = to.map_or_else(|| Ok(Timestamp::now()), str::parse).unwrap_or(from);
    let ms = (to.as_millisecond() - from.as_millisecond()).max(0);
    wirewatch_core::duration::short(std::time::Duration::from_millis(ms as u64))
}

/// A duration in microseconds, in words.
pub fn took(us: i64) -> String {
    wirewatch_core::duration::short(std::time::Duration::from_micros(us.max(0) as u64))
}

/// A cell of a table.
pub struct Cell {
    text: String,
    style: Tone,
    right: bool,
}

/// A plain cell.
pub fn cell(text: impl Into<String>) -> Cell {
    styled(PLAIN, text)
}

/// A cell in a style.
pub fn styled(style: Tone, text: impl Into<String>) -> Cell {
    Cell { text: visible(&text.into()), style, right: false }
}

/// A number: to the right.
pub fn number(text: impl ToString) -> Cell {
    Cell { text: text.to_string(), style: PLAIN, right: true }
}

/// Prints rows in aligned columns under dim headings. The last column is cut at the width of the terminal.
pub fn table(headings: &[&str], rows: &[Vec<Cell>]) {
    let columns = headings.len();
    let width = |column: usize| {
        let cells = rows.iter().filter_map(|row| row.get(column)).map(|cell| cell.text.chars().count());
        cells.chain([headings[column].chars().count()]).max().unwrap_or(0)
    };
    let widths: Vec<usize> = (0..columns).map(width).collect();
    let used: usize = widths[..columns - 1].iter().map(|width| width + 2).sum();
    let room = terminal_width().map_or(usize::MAX, |all| all.saturating_sub(used).max(20));
    let mut text = String::new();
    let heads: Vec<Cell> = headings.iter().map(|heading| styled(DIM, *heading)).collect();
    for row in std::iter::once(&heads).chain(rows) {
        let mut line = String::new();
        for (column, cell) in row.iter().enumerate() {
            let last = column + 1 == columns;
            let shown = if last { shorten(&cell.text, room) } else { cell.text.clone() };
            let fill = " ".repeat(if last { 0 } else { widths[column] - shown.chars().count() });
            let painted = paint(cell.style, &shown);
            let _ = if cell.right { write!(line, "{fill}{painted}") } else { write!(line, "{painted}{fill}") };
            line.push_str(if last { "" } else { "  " });
        }
        text.push_str(line.trim_end());
        text.push('\n');
    }
    out(&text);
}

/// Cut to `room` characters on one line.
pub fn shorten(text: &str, room: usize) -> String {
    let line = text.lines().next().unwrap_or_default();
    if line.chars().count() <= room {
        line.to_owned()
    } else {
        line.chars().take(room.saturating_sub(1)).chain(['…']).collect()
    }
}

/// Returns the width of the terminal; `None` when output goes elsewhere.
pub fn terminal_width() -> Option<usize> {
    use std::io::IsTerminal;
    if !std::io::stdout().is_terminal() {
        return None;
    }
    std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok()).or_else(|| {
        rustix::termios::tcgetwinsize(std::io::stdout()).ok().map(|size| usize::from(size.ws_col)).filter(|columns| *columns > 0)
    })
}

/// Shows findings with the place underlined, on standard error.
pub fn findings(findings: &[Finding]) {
    for finding in findings {
        let (style, word) = match (finding.severity, &finding.accepted) {
            (Severity::Error, _) => (BAD, "error"),
            (Severity::Warning, None) => (WAIT, "warning"),
            (Severity::Warning, Some(_)) => (DIM, "accepted"),
        };
        let place = format!("{}:{}:{}", finding.file, finding.line, finding.column);
        let gutter = " ".repeat(finding.line.to_string().len());
        let indent = " ".repeat(finding.column.saturating_sub(1) as usize);
        let mark = paint(style, "^".repeat(finding.length as usize));
        errln!("{}  {}  {}", paint(style, word), paint(BOLD, place), paint(DIM, &finding.code));
        if !finding.source.is_empty() {
            errln!("  {} {}", paint(DIM, format!("{} │", finding.line)), finding.source);
            errln!("  {} {indent}{mark}", paint(DIM, format!("{gutter} │")));
        }
        errln!("  {}", finding.says);
        if let Some(because) = &finding.accepted {
            errln!("  {}", paint(DIM, format!("accepted: {because}")));
        } else if let Some(help) = &finding.help {
            errln!("  {} {help}", paint(GOOD, "→"));
        }
        errln!();
    }
}

/// `1 message`, `2 messages`.
pub fn count(n: usize, one: &str) -> String {
    if n == 1 { format!("1 {one}") } else { format!("{n} {one}s") }
}

/// Prints the line differences of two texts, with two lines of context around each change.
pub fn text_difference(before: &str, after: &str) {
    let (old, new) = (before.lines().collect::<Vec<_>>(), after.lines().collect::<Vec<_>>());
    for change in TextDiff::from_lines(before, after).grouped_ops(2).iter().flatten().flat_map(|op| op.iter_changes(&old, &new)) {
        let line = match change.tag() {
            ChangeTag::Equal => paint(DIM, format!("    {}", change.value())),
            ChangeTag::Delete => paint(BAD, format!("  - {}", change.value())),
            ChangeTag::Insert => paint(GOOD, format!("  + {}", change.value())),
        };
        outln!("{line}");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_are_cut_and_short_ones_are_not() {
        assert_eq!(shorten("abcdef", 4), "abc…");
        assert_eq!(shorten("abcd\nrest", 4), "abcd");
    }
}
