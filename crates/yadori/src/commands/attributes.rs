use super::{named, print_json, say};
use crate::Context;
use crate::failure::Failure;
use crate::table;
use crate::terminal::{Style, safe};
use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{Args, Subcommand, ValueEnum};
use yadori_api::{Attributes, Clip, Clips, ColourChange};
use yadori_client::in_path;

/// Give a clip a title
#[derive(Args)]
pub struct Title {
    /// The clip
    clip: String,

    /// The title; without one, the clip has none any more
    text: Vec<String>,
}

/// Mark a clip with a colour, by its name
#[derive(Args)]
pub struct Mark {
    /// The clip
    clip: String,

    /// The colour, or none to remove the mark
    #[arg(value_parser = colours())]
    colour: ColourChange,
}

/// The colour of this name.
pub fn colour(word: &str) -> Result<yadori_api::Colour, String> {
    yadori_api::Colour::from_word(&word.to_lowercase()).ok_or_else(|| {
        let all: Vec<&str> = yadori_api::Colour::ALL.iter().map(|colour| colour.word()).collect();
        format!("use {}", all.join(", "))
    })
}

/// The names of the colours, and of none.
fn colours() -> impl TypedValueParser<Value = ColourChange> {
    let names = ColourChange::ALL.iter().map(|colour| colour.word());
    PossibleValuesParser::new(names).try_map(|name| ColourChange::from_word(&name).ok_or("there is no such colour"))
}

/// Give clips short names: :sig stands for a signature
///
/// An alias can be used wherever a clip is named (yadori recall :sig), is searched for, and is filled in
/// by yadori expand. A clip that gets an alias and is not kept yet is pinned, so that it stays.
#[derive(Args)]
pub struct Alias {
    #[command(subcommand)]
    command: Option<AliasCommand>,
}

#[derive(Subcommand)]
enum AliasCommand {
    /// Give a clip an alias, instead of the one it may have
    Set {
        /// The alias: letters, digits, - and _, with or without its colon
        alias: String,
        /// The clip
        clip: String,
        /// Take the alias from the clip that has it
        #[arg(long)]
        take: bool,
    },
    /// Take the alias away from a clip; the clip stays
    Remove {
        /// The alias, or the clip that has it
        alias: String,
    },
    /// List the aliases and what they stand for (also without any command)
    List,
}

/// Say that clips are not secrets, whatever they look like
///
/// What looks like a secret is masked in lists and never sent to other devices; what surely is one is deleted after
/// ten minutes. This shows such a clip like any other, and remembers it: the same text is not masked again.
#[derive(Args)]
pub struct Unmask {
    /// The clips
    #[arg(required = true)]
    clips: Vec<String>,

    /// Treat them as what they look like again
    #[arg(long)]
    undo: bool,
}

/// Fill in a clip's placeholders whenever it is recalled, or not
///
/// Placeholders: {date}, {date:%d %B %Y}, {time}, {clipboard} (the newest text of the history), {ask:Name}
/// and {ask:Name=usual answer}. \{date} is the text {date}; other braces are left alone.
#[derive(Args)]
pub struct Fill {
    /// The clip
    clip: String,

    /// Whether to
    #[arg(default_value = "on")]
    value: Switch,
}

#[derive(Clone, Copy, ValueEnum, PartialEq)]
pub enum Switch {
    On,
    Off,
}

fn change(context: &Context, clip: &str, change: &Attributes) -> Result<Clip, Failure> {
    Ok(context.service()?.patch(&format!("/clips/{}", in_path(clip)), change)?)
}

impl Title {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let title = Attributes { title: Some(self.text.join(" ")), ..Attributes::default() };
        let clip = change(context, &self.clip, &title)?;
        if context.json {
            return print_json(&clip);
        }
        match &clip.title {
            Some(title) => say(&format!("Titled: {}", safe(title))),
            None => say(&format!("Removed the title: {}", named(std::slice::from_ref(&clip)))),
        }
    }
}

impl Mark {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let word = self.colour.word();
        let mark = Attributes { mark: Some(self.colour), ..Attributes::default() };
        let clip = change(context, &self.clip, &mark)?;
        if context.json {
            return print_json(&clip);
        }
        let what = named(std::slice::from_ref(&clip));
        say(&if clip.mark.is_some() { format!("Marked {word}: {what}") } else { format!("Removed the mark: {what}") })
    }
}

impl Alias {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        match self.command.unwrap_or(AliasCommand::List) {
            AliasCommand::Set { alias, clip, take } => {
                let before = context.service()?.get::<Clip>(&format!("/clips/{}", in_path(&clip)))?;
                let given = Attributes { alias: Some(alias), take_alias: take, ..Attributes::default() };
                let clip = change(context, &clip, &given)?;
                if context.json {
                    return print_json(&clip);
                }
                let alias = clip.alias.as_deref().unwrap_or_default();
                let pinned = if clip.pinned && !before.pinned { ", pinned so that it stays" } else { "" };
                let instead = match before.alias.as_deref().filter(|before| *before != alias) {
                    Some(before) => format!(" (it no longer has the alias :{})", safe(before)),
                    None => String::new(),
                };
                say(&format!(":{} stands for {}{pinned}{instead}", safe(alias), named(std::slice::from_ref(&clip))))
            }
            AliasCommand::Remove { alias } => {
                let none = Attributes { alias: Some(String::new()), ..Attributes::default() };
                let clip = match change(context, &alias, &none) {
                    // People leave out the colon.
                    Err(Failure::Problem(_)) if !alias.starts_with(':') => {
                        change(context, &format!(":{alias}"), &none)?
                    }
                    other => other?,
                };
                if context.json {
                    return print_json(&clip);
                }
                say(&format!("Removed the alias: {}", named(std::slice::from_ref(&clip))))
            }
            AliasCommand::List => {
                let Clips { clips } = context.service()?.get("/aliases")?;
                if context.json {
                    return print_json(&clips);
                }
                if clips.is_empty() {
                    tell!("No clip has an alias yet. Set one: yadori alias set :sig 3");
                }
                let label = |clip: &Clip| format!(":{}", clip.alias.as_deref().unwrap_or_default());
                let labels: Vec<String> = clips.iter().map(label).collect();
                let clips: Vec<Clip> = clips.into_iter().map(|clip| Clip { alias: None, ..clip }).collect();
                Ok(table::print_labelled(&clips, &labels, Style::of_stdout(), jiff::Timestamp::now())?)
            }
        }
    }
}

impl Unmask {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let said = Attributes { secret: Some(self.undo), ..Attributes::default() };
        let mut clips = Vec::with_capacity(self.clips.len());
        for name in &self.clips {
            clips.push(change(context, name, &said)?);
        }
        if context.json {
            return print_json(&clips);
        }
        let masked = clips.iter().any(|clip| clip.sensitive.is_some());
        say(&format!("{}: {}", if masked { "Masked" } else { "Not a secret" }, named(&clips)))
    }
}

impl Fill {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let fills = Attributes { fills: Some(self.value == Switch::On), ..Attributes::default() };
        let clip = change(context, &self.clip, &fills)?;
        if context.json {
            return print_json(&clip);
        }
        let what = named(std::slice::from_ref(&clip));
        say(&if clip.fills {
            format!("Placeholders are filled in when it is recalled: {what}")
        } else {
            format!("Recalled as it is: {what}")
        })
    }
}
