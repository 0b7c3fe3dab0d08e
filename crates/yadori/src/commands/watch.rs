use super::{print_json_line, say};
use crate::Context;
use crate::failure::Failure;
use crate::terminal::{fit, safe};
use clap::Args;
use yadori_api::ClipChange;

/// Print a line for every change, as it happens
///
/// One line for each clip that is copied, changed or removed, until you press Ctrl+C. With --json, each line is the change
/// as the HTTP interface tells it.
#[derive(Args)]
pub struct Watch {
    /// Stop after this many changes
    #[arg(short = 'n', long, value_name = "NUMBER", value_parser = clap::value_parser!(u64).range(1..))]
    limit: Option<u64>,
}

impl Watch {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        let mut seen = 0;
        for event in service.events(None)? {
            let event = event?;
            if event.name != "clip" {
                continue;
            }
            let change: ClipChange = serde_json::from_str(&event.data)
                .map_err(|error| Failure::Here(format!("couldn't understand the service: {error}")))?;
            if context.json {
                print_json_line(&change)?;
            } else {
                print(&change)?;
            }
            seen += 1;
            if self.limit.is_some_and(|limit| seen >= limit) {
                return Ok(());
            }
        }
        Err(service.gone("it has stopped").into())
    }
}

fn print(change: &ClipChange) -> Result<(), Failure> {
    let id = &change.id[..change.id.len().min(10)];
    match &change.clip {
        Some(clip) => {
            let what = clip.title.as_deref().unwrap_or(&clip.preview);
            let position = clip.position.map(|position| position.to_string()).unwrap_or_default();
            let what = fit(&safe(what).replace('\n', " "), 100);
            say(&format!("{id}  {position:>3}  {:<5}  {what}", clip.kind.word()))
        }
        None => say(&format!("{id}    -  removed")),
    }
}
