use super::input::{self, TermsArgs};
use crate::error::CommandError;
use crate::local;
use crate::terminal::document;
use std::path::PathBuf;
use wirewatch_core::edi::acknowledge::{Drafted, acknowledgments};
use wirewatch_core::x12::ack::{AckDepth, AckForm, AckStyle, Stamp};

/// Write the acknowledgments of an X12 file: a 997 or 999 for each group, a TA1 where ISA14 requests one
///
/// On standard output, one segment a line. Nothing is sent, and no control number is used up: the service numbers what it sends.
#[derive(Debug, clap::Args)]
pub struct AckArgs {
    /// The file; - for standard input
    file: PathBuf,
    #[command(flatten)]
    by: TermsArgs,
    /// Detail: every set with its errors, or the group alone
    #[arg(long, value_parser = ["set", "group"])]
    level: Option<String>,
    /// The transaction set to acknowledge with
    #[arg(long = "as", value_parser = ["997", "999"])]
    form: Option<String>,
    /// The first control number
    #[arg(long, default_value_t = 1, value_name = "N", value_parser = clap::value_parser!(u32).range(1..1_000_000_000))]
    control: u32,
}

pub fn run(args: &AckArgs) -> Result<(), CommandError> {
    let (partner, terms) = args.by.find()?;
    let wanted = partner.and_then(|partner| partner.acknowledge.as_ref().map(|acknowledge| acknowledge.style));
    let mut style: AckStyle = wanted.unwrap_or_default();
    match args.level.as_deref() {
        Some("group") => style.depth = AckDepth::Group,
        Some(_) => style.depth = AckDepth::Set,
        None => {}
    }
    match args.form.as_deref() {
        Some("999") => style.form = AckForm::Implementation,
        Some(_) => style.form = AckForm::Functional,
        None => {}
    }
    let bytes = local::bytes(&args.file)?;
    let reading = input::read(&terms, &bytes);
    let now = jiff::Zoned::now();
    let (date, time) = (now.strftime("%Y%m%d").to_string(), now.strftime("%H%M").to_string());
    let stamp = Stamp { interchange_control: args.control, group_control: args.control, date, time };
    let written: Vec<u8> = acknowledgments(&reading, |_| style, &stamp).iter().flat_map(Drafted::lines).collect();
    if !written.is_empty() {
        return Ok(document(&written)?);
    }
    let file = args.file.display();
    Err(CommandError::Failed(format!("{file}: nothing to acknowledge; `wirewatch edi check` shows why")))
}
