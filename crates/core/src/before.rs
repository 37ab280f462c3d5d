//! What can be put on hold: a connection, a flow that a person has paused, a step where message after message failed in the same
//! way. All are stored under one kind of name.

use std::fmt;

/// Something that can be put on hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Before<'a> {
    Connection(&'a str),
    Flow(&'a str),
    Step { flow: &'a str, step: &'a str },
}

impl<'a> Before<'a> {
    /// Parses a name. Names of connections and flows contain no blank.
    #[must_use]
    pub fn of(name: &'a str) -> Self {
        let step = || name.strip_prefix("step ")?.split_once(' ').map(|(flow, step)| Self::Step { flow, step });
        let flow = || name.strip_prefix("flow ").map(Self::Flow);
        step().or_else(flow).unwrap_or(Self::Connection(name))
    }

    /// Returns it for people: `the connection NAME`.
    #[must_use]
    pub fn says(&self) -> String {
        match self {
            Self::Connection(name) => format!("the connection {name}"),
            Self::Flow(flow) => format!("the flow {flow}"),
            Self::Step { flow, step } => format!("the step {step} of the flow {flow}"),
        }
    }
}

impl fmt::Display for Before<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Connection(name) => f.write_str(name),
            Self::Flow(flow) => write!(f, "flow {flow}"),
            Self::Step { flow, step } => write!(f, "step {flow} {step}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_says_what_it_stands_for() {
        let all = [Before::Connection("erp"), Before::Flow("orders"), Before::Step { flow: "orders", step: "book it" }];
        for before in all {
            assert_eq!(Before::of(&before.to_string()), before);
        }
        assert_eq!(
            all.map(|before| before.says()),
            ["the connection erp", "the flow orders", "the step book it of the flow orders"]
        );
        assert_eq!(Before::of("step alone"), Before::Connection("step alone"));
    }
}
