use super::{named, print_json, say};
use crate::Context;
use crate::failure::Failure;
use crate::terminal::{Style, age, count, fit, moment, safe};
use clap::Args;
use yadori_api::{Step, Undo as Asked, Undone};

/// Undo the last delete, clear or edit
///
/// Run it again to undo what was done before that; yadori redo reverses an undo. After 24 hours, nothing can be undone.
#[derive(Args)]
pub struct Undo {
    /// List what can be undone
    #[arg(long)]
    list: bool,

    /// Undo this step, of those that --list tells, instead of the last
    #[arg(long, conflicts_with = "list")]
    step: Option<u64>,
}

impl Undo {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        if self.list {
            let steps: Vec<Step> = service.get("/steps")?;
            return if context.json { print_json(&steps) } else { list(&steps) };
        }
        let undone: Undone = service.post("/undo", &Asked { step: self.step })?;
        if context.json {
            return print_json(&undone);
        }
        say(&format!("Restored: {}", clips_of(&undone)))
    }
}

/// Reverse the last undo
///
/// What was deleted, cleared or edited before that undo goes again, and can be undone again. Nothing else must have been
/// deleted, cleared or edited in between; a step can be named regardless.
#[derive(Args)]
pub struct Redo {
    /// Redo this step, of those that yadori undo --list tells, instead of the one undone last
    #[arg(long)]
    step: Option<u64>,
}

impl Redo {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let redone: Undone = context.service()?.post("/redo", &Asked { step: self.step })?;
        if context.json {
            return print_json(&redone);
        }
        say(&format!("{} again: {}. Undo with: yadori undo", sentence_case(past(&redone.what)), clips_of(&redone)))
    }
}

fn clips_of(undone: &Undone) -> String {
    if undone.count == undone.clips.len() as u64 { named(&undone.clips) } else { count(undone.count, "clip", "clips") }
}

/// What was done in a step, as a verb in the past.
fn past(what: &str) -> &'static str {
    match what {
        "clear" => "cleared",
        "edit" => "edited",
        _ => "deleted",
    }
}

fn sentence_case(word: &str) -> String {
    word[..1].to_uppercase() + &word[1..]
}

fn list(steps: &[Step]) -> Result<(), Failure> {
    if steps.is_empty() {
        tell!("Nothing was deleted, cleared or edited in the last 24 hours.");
    }
    let style = Style::of_stdout();
    let now = jiff::Timestamp::now();
    for step in steps {
        let example = step.example.as_ref().map(|clip| {
            let shown = clip.title.as_deref().unwrap_or(&clip.preview);
            let more = if step.count > 1 { " and more" } else { "" };
            format!(": {}{more}", fit(&safe(shown).replace('\n', " "), 40))
        });
        let done = past(&step.what);
        let undone = if step.undone {
            style.faint("  undone already")
        } else {
            style.faint(&format!("  until {}", moment(step.until)))
        };
        let clips = count(step.count, "clip", "clips");
        let age = age(step.at, now);
        say(&format!("{:>5}  {age:>5}  {done} {clips}{}{undone}", step.step, example.unwrap_or_default()))?;
    }
    Ok(())
}
