//! Marrowfield Farm Stores: sends purchase orders as 850 interchanges and collects its acknowledgments.

use crate::order_system::ITEMS;
use crate::{days_from_today, today};
use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// A flaw put into an interchange.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Flaw {
    None,
    /// An item that nobody knows: the order system refuses the order.
    UnknownItem,
    /// A set with a wrong segment count: the 997 rejects it.
    WrongCount,
    /// The end is missing.
    CutShort,
    /// No X12 at all.
    Garbage,
}

/// Writes purchase orders. The same seed gives the same orders on the same day.
#[derive(Debug)]
pub struct Marrowfield {
    random: fastrand::Rng,
    /// The last interchange control number used.
    pub control: u32,
    /// The last purchase order number used.
    pub order: u32,
}

/// An interchange as it will be sent.
#[derive(Debug, Clone)]
pub struct Sent {
    pub control: u32,
    pub text: String,
    /// Purchase order numbers in it.
    pub orders: Vec<String>,
}

impl Marrowfield {
    /// Creates a sender that continues after these numbers.
    #[must_use]
    pub fn new(seed: u64, control: u32, order: u32) -> Self {
        Self { random: fastrand::Rng::with_seed(seed), control, order }
    }

    /// The next interchange, with one to five orders of 1 to 12 lines.
    pub fn interchange(&mut self, flaw: Flaw) -> Sent {
        let orders = self.random.usize(1..=5);
        self.interchange_of(orders, flaw)
    }

    /// Returns the next interchange with so many orders.
    pub fn interchange_of(&mut self, orders: usize, flaw: Flaw) -> Sent {
        self.control += 1;
        let control = self.control;
        let today = today().strftime("%Y%m%d").to_string();
        let mut text = format!(
            "ISA*00*          *00*          *ZZ*MARROWFIELD    *ZZ*QUILLHAVEN     *{}*0700*U*00401*{control:09}*0*T*>~\n\
             GS*PO*MARROWFIELD*QUILLHAVEN*{today}*0700*{control}*X*004010~\n",
            &today[2..]
        );
        let mut numbers = Vec::with_capacity(orders);
        let flawed = self.random.usize(0..orders.max(1));
        for n in 0..orders {
            self.order += 1;
            let number = format!("MF-{}", self.order);
            let flaw = if n == flawed { flaw } else { Flaw::None };
            text.push_str(&self.order(n + 1, &number, flaw));
            numbers.push(number);
        }
        text.push_str(&format!("GE*{orders}*{control}~\nIEA*1*{control:09}~\n"));
        match flaw {
            Flaw::CutShort => text.truncate(text.len() * 2 / 3),
            Flaw::Garbage => text = format!("PURCHASE ORDERS\n{}\nplease call us about these\n", numbers.join("\n")),
            Flaw::None | Flaw::UnknownItem | Flaw::WrongCount => {}
        }
        Sent { control, text, orders: numbers }
    }

    fn order(&mut self, set: usize, number: &str, flaw: Flaw) -> String {
        let store = self.random.u32(1..=40);
        let mut segments = vec![
            format!("ST*850*{set:04}"),
            format!("BEG*00*SA*{number}**{}", today().strftime("%Y%m%d")),
            "CUR*BY*USD".to_owned(),
            "REF*DP*HIVES".to_owned(),
            format!("DTM*002*{}", days_from_today(self.random.i64(3..=30)).strftime("%Y%m%d")),
            format!("N1*ST*Marrowfield Store {store}*92*{store:04}"),
            format!("N3*{} Clover Lane", self.random.u32(1..=99)),
            "N4*Tansy Mills*HV*HV104*US".to_owned(),
        ];
        let lines = self.random.usize(1..=12);
        let unknown = self.random.usize(0..lines);
        let mut cents = 0;
        for line in 0..lines {
            let (item, name, price) = ITEMS[self.random.usize(0..ITEMS.len())];
            let quantity = self.random.u64(1..=48);
            let price_cents: u64 = price.replace('.', "").parse().unwrap_or(0);
            cents += quantity * price_cents;
            let item = if flaw == Flaw::UnknownItem && line == unknown { "QH-HIVE-12" } else { item };
            segments.push(format!("PO1*{}*{quantity}*EA*{price}**VP*{item}", line + 1));
            segments.push(format!("PID*F****{name}"));
        }
        segments.push(format!("CTT*{lines}"));
        segments.push(format!("AMT*TT*{}.{:02}", cents / 100, cents % 100));
        let count = segments.len() + if flaw == Flaw::WrongCount { 5 } else { 1 };
        segments.push(format!("SE*{count}*{set:04}"));
        segments.join("~\n") + "~\n"
    }

    /// Chooses a flaw by chance: one order in about fifteen, one file in about twelve.
    pub fn chance(&mut self) -> Flaw {
        match self.random.u32(0..60) {
            0..=11 => Flaw::UnknownItem,
            12 | 13 => Flaw::WrongCount,
            14 | 15 => Flaw::CutShort,
            16 => Flaw::Garbage,
            _ => Flaw::None,
        }
    }
}

/// Puts a file into a folder so that a reader sees it whole or not at all.
///
/// # Errors
/// The system's.
pub fn drop_file(folder: &Path, name: &str, text: &[u8]) -> io::Result<()> {
    let hidden = folder.join(format!(".{name}.tmp"));
    fs::write(&hidden, text)?;
    fs::rename(hidden, folder.join(name))
}

/// A collected acknowledgment: the group it answers, its own control number, the verdict.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Acknowledged {
    pub file: String,
    /// AK102.
    pub group: String,
    /// ISA13.
    pub control: String,
    /// AK901.
    pub verdict: String,
}

/// Reads every acknowledgment in a folder, by file name.
///
/// # Errors
/// The system's.
pub fn acknowledgments(folder: &Path) -> io::Result<Vec<Acknowledged>> {
    let mut found = BTreeMap::new();
    for entry in fs::read_dir(folder)? {
        let path = entry?.path();
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        if path.is_file() && !name.starts_with('.') {
            found.insert(name.clone(), acknowledged(&name, &fs::read_to_string(&path)?));
        }
    }
    Ok(found.into_values().collect())
}

fn acknowledged(file: &str, text: &str) -> Acknowledged {
    let element = |segment: &str, n: usize| {
        let found = text.split('~').map(str::trim).find(|known| known.starts_with(segment));
        found.and_then(|known| known.split('*').nth(n)).unwrap_or_default().trim().to_owned()
    };
    Acknowledged { file: file.to_owned(), group: element("AK1*", 2), control: element("ISA*", 13), verdict: element("AK9*", 1) }
}

/// Moves collected files to where Marrowfield keeps them; returns how many.
///
/// # Errors
/// The system's.
pub fn collect(from: &Path, to: &Path) -> io::Result<usize> {
    fs::create_dir_all(to)?;
    let mut count = 0;
    for entry in fs::read_dir(from)? {
        let path: PathBuf = entry?.path();
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        if path.is_file() && !name.starts_with('.') {
            fs::rename(&path, to.join(name))?;
            count += 1;
        }
    }
    Ok(count)
}
