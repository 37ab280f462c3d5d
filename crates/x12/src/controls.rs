//! Which control numbers a group has used.

use std::collections::HashSet;

/// Control numbers seen, compared as numbers. They nearly always count up by one, which takes no memory.
#[derive(Debug, Default)]
pub(crate) struct Controls {
    run: Option<std::ops::RangeInclusive<u64>>,
    others: HashSet<String>,
}

impl Controls {
    /// Takes one more; whether it is new.
    pub fn insert(&mut self, control: &str) -> bool {
        let number = control.parse::<u64>().ok();
        let Some(number) = number else { return self.others.insert(control.to_owned()) };
        match &self.run {
            None => self.run = Some(number..=number),
            Some(run) if run.contains(&number) => return false,
            Some(run) if run.end().checked_add(1) == Some(number) && !self.others.contains(&number.to_string()) => {
                self.run = Some(*run.start()..=number)
            }
            Some(_) => return self.others.insert(number.to_string()),
        }
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_number_is_new_once_in_whatever_order_and_width_they_come() {
        let mut controls = Controls::default();
        let all = ["0001", "0002", "0002", "0003", "0009", "0004", "9", "A1B2", "A1B2", "000000003", "0010"];
        let new: Vec<bool> = all.iter().map(|control| controls.insert(control)).collect();
        assert_eq!(new, [true, true, false, true, true, true, false, true, false, false, true]);
    }
}
