//! The only writer of standard output and standard error: colours where the reader shows them, control characters always escaped.
//!
//! Names, keys and answers come from outside and may contain control characters. Raw on a terminal, they would move the cursor,
//! rename the window or hide the rest. So colours travel through texts as marks, which are characters that Unicode reserves for
//! use inside a program (U+FDD0 to U+FDEF). On output a mark becomes its escape sequence, and every other control character its
//! code, such as `\u{1b}`.

use anstream::{AutoStream, ColorChoice};
use anstyle::{AnsiColor, Style};
use std::io::{self, IsTerminal, Write};

/// The style of a piece of text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u32)]
pub enum Tone {
    Plain,
    Dim,
    Bold,
    Good,
    Bad,
    Wait,
    Move,
}

/// In the order of [`Tone`].
const STYLES: [Style; 7] = [
    Style::new(),
    Style::new().dimmed(),
    Style::new().bold(),
    AnsiColor::Green.on_default(),
    AnsiColor::Red.on_default().bold(),
    AnsiColor::Yellow.on_default(),
    AnsiColor::Cyan.on_default(),
];
/// The mark of the first tone, and the mark that ends any.
const FIRST: u32 = 0xFDD0;
const END: char = '\u{FDEF}';

/// Text in a tone. Control characters in it are made visible.
pub fn paint(tone: Tone, text: impl AsRef<str>) -> String {
    let text = visible(text.as_ref());
    if tone == Tone::Plain || text.is_empty() {
        return text;
    }
    let begin = char::from_u32(FIRST + tone as u32).expect("a noncharacter is a scalar value");
    format!("{begin}{text}{END}")
}

/// The text with each control character, except line feed and tab, as its code. Marks count as control characters too.
pub fn visible(text: &str) -> String {
    let mut shown = String::with_capacity(text.len());
    for char in text.chars() {
        if is_unseen(char) || is_mark(char) { shown.extend(char.escape_unicode()) } else { shown.push(char) }
    }
    shown
}

/// Control characters and characters that change the writing direction: both can make a line look like another one.
fn is_unseen(char: char) -> bool {
    match char {
        '\n' | '\t' => false,
        '\u{202A}'..='\u{202E}' | '\u{2066}'..='\u{2069}' | '\u{2028}' | '\u{2029}' => true,
        _ => char.is_control(),
    }
}

fn is_mark(char: char) -> bool {
    (FIRST..=u32::from(END)).contains(&u32::from(char))
}

/// The text as a reader gets it: marks as escape sequences or left out, control characters as their codes.
fn rendered(text: &str, colours: bool) -> String {
    let mut shown = String::with_capacity(text.len() + 16);
    for char in text.chars() {
        if is_mark(char) {
            let style = STYLES.get((u32::from(char) - FIRST) as usize);
            match style {
                _ if !colours => {}
                Some(style) => shown.push_str(&style.render().to_string()),
                None => shown.push_str("\u{1b}[0m"),
            }
        } else if is_unseen(char) {
            shown.extend(char.escape_unicode());
        } else {
            shown.push(char);
        }
    }
    shown
}

/// Writes to standard output. Ends the process with exit code 1 when that fails, such as on a full disk.
pub fn out(text: &str) {
    let stdout = io::stdout();
    let colours = AutoStream::choice(&stdout) != ColorChoice::Never;
    if let Err(error) = stdout.lock().write_all(rendered(text, colours).as_bytes()) {
        err(&format!("error: standard output cannot be written: {error}\n"));
        std::process::exit(1);
    }
}

/// Writes to standard error. An error is ignored: there is no other place to report it.
pub fn err(text: &str) {
    let stderr = io::stderr();
    let colours = AutoStream::choice(&stderr) != ColorChoice::Never;
    let _ = stderr.lock().write_all(rendered(text, colours).as_bytes());
}

/// Writes a document: byte for byte to a file or a program, with control characters visible to a terminal.
///
/// # Errors
/// The system's, such as a full disk.
pub fn document(bytes: &[u8]) -> io::Result<()> {
    let mut stdout = io::stdout().lock();
    match stdout.is_terminal() {
        true => stdout.write_all(rendered(&String::from_utf8_lossy(bytes).replace("\r\n", "\n"), false).as_bytes()),
        false => stdout.write_all(bytes),
    }?;
    stdout.flush()
}

/// JSON with every character written as JSON does that a terminal might act on.
pub fn safe_json(json: &str) -> String {
    let mut safe = String::with_capacity(json.len());
    for char in json.chars() {
        // JSON escapes characters below U+0020; line feeds are its own layout. The others have one UTF-16 unit.
        if is_unseen(char) { safe.push_str(&format!("\\u{:04x}", u32::from(char))) } else { safe.push(char) }
    }
    safe
}

/// Clears the screen, if standard output is one (ECMA-48: erase in page, cursor to the upper left corner).
pub fn clear() {
    let mut stdout = io::stdout().lock();
    if stdout.is_terminal() {
        let _ = stdout.write_all(b"\x1b[2J\x1b[H");
    }
}

/// A line to standard output.
macro_rules! outln {
    () => { $crate::terminal::out("\n") };
    ($($text:tt)*) => { $crate::terminal::out(&format!("{}\n", format_args!($($text)*))) };
}
/// A line to standard error.
macro_rules! errln {
    () => { $crate::terminal::err("\n") };
    ($($text:tt)*) => { $crate::terminal::err(&format!("{}\n", format_args!($($text)*))) };
}
pub(crate) use {errln, outln};

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_our_own_colours_reach_a_terminal() {
        let hostile = "PO-1\u{1b}]0;pwned\u{7}\u{1b}[2J\u{9b}31m\r\u{202e}gpj";
        let seen = r"PO-1\u{1b}]0;pwned\u{7}\u{1b}[2J\u{9b}31m\u{d}\u{202e}gpj";
        assert_eq!(rendered(hostile, true), seen);
        assert_eq!(rendered(&paint(Tone::Bad, hostile), true), format!("\u{1b}[1m\u{1b}[31m{seen}\u{1b}[0m"));
        assert_eq!(rendered(&paint(Tone::Bad, hostile), false), seen);
        assert_eq!(rendered(&paint(Tone::Plain, "a\u{fdd4}b"), true), "a\\u{fdd4}b", "a mark from outside");
    }

    #[test]
    fn lines_tabs_and_letters_of_every_script_stay() {
        let text = "Bienenkörbe\t三\n🐝";
        assert_eq!(rendered(text, true), text);
    }

    #[test]
    fn json_says_the_same_with_nothing_for_a_terminal_to_act_on() {
        let value = serde_json::json!({ "key": "a\u{1b}\u{7f}\u{9b}\u{202e}z" });
        let safe = safe_json(&serde_json::to_string_pretty(&value).unwrap());
        assert_eq!(serde_json::from_str::<serde_json::Value>(&safe).unwrap(), value);
        assert!(!safe.chars().any(is_unseen), "{safe}");
    }
}
