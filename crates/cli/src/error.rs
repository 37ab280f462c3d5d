//! Errors of commands, and their exit codes.

use crate::terminal::errln;
use crate::ui;
use std::process::ExitCode;
use wirewatch_core::Finding;
use wirewatch_service::ServeError;
use wirewatch_service::api::problem::Problem;

/// A command that did not do its work.
#[derive(Debug)]
pub enum CommandError {
    /// The work failed: exit 1.
    Failed(String),
    /// Findings were printed already: exit 1.
    Found,
    /// The service answered with a problem: exit 1.
    Refused(Box<Problem>),
    /// Wrong usage: exit 2.
    Usage(String),
    /// The service cannot be reached: exit 3.
    Unreachable(String),
}

impl CommandError {
    /// Says what is wrong on standard error; gives the exit code.
    pub fn report(self) -> ExitCode {
        let (code, says) = match self {
            Self::Found => return ExitCode::from(1),
            Self::Failed(says) => (1, says),
            Self::Refused(problem) => {
                let Problem { title, detail, findings, .. } = *problem;
                ui::findings(&findings);
                (1, detail.map_or(title.clone(), |detail| format!("{title}\n       {detail}")))
            }
            Self::Usage(says) => (2, says),
            Self::Unreachable(says) => (3, says),
        };
        errln!("{}: {says}", ui::paint(ui::BAD, "error"));
        ExitCode::from(code)
    }
}

impl From<ServeError> for CommandError {
    fn from(error: ServeError) -> Self {
        match &error {
            ServeError::Workspace(findings) => {
                let findings: &[Finding] = findings;
                ui::findings(findings);
                Self::Failed(error.to_string())
            }
            _ => Self::Failed(error.to_string()),
        }
    }
}

impl From<std::io::Error> for CommandError {
    fn from(error: std::io::Error) -> Self {
        Self::Failed(error.to_string())
    }
}
