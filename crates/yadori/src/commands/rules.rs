use super::{print_json, say};
use crate::Context;
use crate::failure::Failure;
use clap::{Args, Subcommand, ValueEnum};
use yadori_api::{Rules as InForce, RulesChange};

/// Show and change what is captured
#[derive(Args)]
pub struct Rules {
    #[command(subcommand)]
    command: Option<Command>,
}

#[derive(Subcommand)]
enum Command {
    /// Show the rules in force, as sentences (also without any command)
    Show,
    /// Change a rule, at once and for good
    Set {
        /// The rule
        rule: Rule,
        /// What it is to be
        value: Switch,
    },
}

/// The rules that can be changed.
#[derive(Clone, Copy, ValueEnum)]
enum Rule {
    /// Keep text that is merely selected (the primary selection, which the middle mouse button pastes)
    Primary,
}

#[derive(Clone, Copy, ValueEnum)]
enum Switch {
    On,
    Off,
}

impl Rules {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        let rules: InForce = match self.command {
            None | Some(Command::Show) => service.get("/rules")?,
            Some(Command::Set { rule: Rule::Primary, value }) => {
                service.patch("/rules", &RulesChange { primary: Some(matches!(value, Switch::On)) })?
            }
        };
        if context.json { print_json(&rules) } else { say(sentence(rules)) }
    }
}

fn sentence(rules: InForce) -> &'static str {
    if rules.primary {
        "Text that is merely selected is kept too, once it has stayed selected for a moment; it is marked as selected.\n\
         Change it: yadori rules set primary off"
    } else {
        "Only what is copied is kept, not text that is merely selected.\nChange it: yadori rules set primary on"
    }
}
