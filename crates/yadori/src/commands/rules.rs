use super::delete::KindWord;
use super::{print_json, say};
use crate::Context;
use crate::ask::confirm;
use crate::failure::Failure;
use crate::terminal::{Style, count, safe, size};
use clap::{Args, Subcommand, ValueEnum};
use yadori_api::{
    Clear, Cleared, Feedback, Kind, Limits, ResetRules, Rules as InForce, RulesChange, RulesTest, RulesVerdict,
    ScopeLimits, SweepPreview, Swept,
};
use yadori_client::Client;
use yadori_core::amounts;

/// Show and change what is captured, and how long it stays
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
        #[command(flatten)]
        change: Change,
        /// When the history is turned off: clear it too
        #[arg(long)]
        clear: bool,
        /// Do not ask, even if more than half of the history goes by it
        #[arg(long, short)]
        yes: bool,
    },
    /// List what a changed rule would remove, without changing it
    Preview {
        #[command(flatten)]
        change: Change,
    },
    /// Keep no copies made in an application, or of text that matches a pattern
    Ignore {
        #[command(flatten)]
        what: Ignored,
    },
    /// Take back what was said with ignore
    Unignore {
        #[command(flatten)]
        what: Ignored,
    },
    /// Tell what would happen to a copy of a text, and why
    Test {
        /// The text
        text: String,
        /// The application it is copied in
        #[arg(long, value_name = "NAME")]
        app: Option<String>,
    },
    /// Apply the rules now; also when a sweep is held, since it would take more than half of the history
    Sweep {
        /// Do not ask
        #[arg(long, short)]
        yes: bool,
    },
    /// Put all rules back to what they are by default
    Reset {
        /// Do not ask
        #[arg(long, short)]
        yes: bool,
    },
}

#[derive(Args)]
struct Change {
    /// The rule
    rule: Rule,
    /// What it is to be
    value: String,
    /// For this kind only (count, age and total)
    #[arg(long, conflicts_with = "app")]
    kind: Option<KindWord>,
    /// For what is copied in this application only (count, age and total)
    #[arg(long, value_name = "NAME")]
    app: Option<String>,
}

/// The rules that can be changed.
#[derive(Clone, Copy, ValueEnum, PartialEq)]
enum Rule {
    /// Most clips in the history, besides kept ones: 500, or off
    Count,
    /// How long clips stay: 90d, 12h, or off
    Age,
    /// Most room that all clips together take: 2GiB, 500MB, or off
    Total,
    /// How long what looks like a secret stays: 10m, or off (like everything else)
    Sensitive,
    /// Whether copies are captured at all: on, or off
    History,
    /// Keep text that is merely selected (the primary selection, which the middle mouse button pastes): on, or off
    Primary,
    /// The kinds that are captured: text,link,image,files, or all
    Kinds,
    /// Most room that one copy may take: 32MiB
    Largest,
    /// The same thing copied again within this time counts once: 500ms, or off
    Repeats,
    /// What becomes of the history when the service ends, as it does at log-out: keep, or forget
    LogOut,
    /// What a recall does to the clip's place in the history: stay, or top
    Recall,
    /// How you are told of each copy that is kept: notification, sound, flash (of the icon), several with commas, or off
    Feedback,
}

#[derive(Args)]
#[group(required = true, multiple = false)]
struct Ignored {
    /// An application, by its name
    #[arg(long, value_name = "NAME")]
    app: Option<String>,
    /// A regular expression
    #[arg(long, value_name = "REGEX")]
    pattern: Option<String>,
}

impl Rules {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        match self.command.unwrap_or(Command::Show) {
            Command::Show => show(context, &service.get("/rules")?),
            Command::Set { change, clear, yes } => set(context, &service, &change, clear, yes),
            Command::Preview { change } => preview(context, &service, &change),
            Command::Ignore { what } => ignore(context, &service, what, true),
            Command::Unignore { what } => ignore(context, &service, what, false),
            Command::Test { text, app } => {
                let verdict: RulesVerdict = service.post("/rules/test", &RulesTest { text, application: app })?;
                if context.json { print_json(&verdict) } else { say(&safe(&verdict.reason)) }
            }
            Command::Sweep { yes } => sweep(context, &service, yes),
            Command::Reset { yes } => {
                if !confirm("Put all rules back to what they are by default?", yes)? {
                    return say("Nothing was changed.");
                }
                show(context, &service.post("/rules/reset", &ResetRules { confirmed: yes })?)
            }
        }
    }
}

impl Change {
    /// The change that is meant, from the rules in force.
    fn from(&self, rules: &InForce) -> Result<RulesChange, Failure> {
        let value = self.value.trim();
        let word = value.to_ascii_lowercase();
        let none = RulesChange::default;
        let scoped = self.kind.is_some() || self.app.is_some();
        if scoped && !matches!(self.rule, Rule::Count | Rule::Age | Rule::Total) {
            return Err(Failure::Usage("--kind and --app go with count, age and total".into()));
        }
        let refuse = |accepted: &str| Failure::Usage(format!("“{}” isn't valid here; use {accepted}", safe(value)));
        let number = |read: fn(&str) -> Option<u64>, accepted: &str| -> Result<u64, Failure> {
            match word.as_str() {
                "off" | "none" => Ok(0),
                _ => read(value).filter(|number| *number > 0).ok_or_else(|| refuse(&format!("{accepted}, or off"))),
            }
        };
        let seconds = |accepted: &str| -> Result<u64, Failure> {
            let millis = number(amounts::span, accepted)?;
            if millis > 0 && millis < 1000 { Err(refuse("at least a second")) } else { Ok(millis / 1000) }
        };
        let either = |on: &str, off: &str| match &word {
            word if word == on => Ok(true),
            word if word == off => Ok(false),
            _ => Err(refuse(&format!("{on}, or {off}"))),
        };
        Ok(match self.rule {
            Rule::Count => {
                let count = number(amounts::count, amounts::COUNTS)?;
                self.limits(rules, |limits| limits.count = count)
            }
            Rule::Age => {
                let age = seconds(amounts::SPANS)?;
                self.limits(rules, |limits| limits.age_seconds = age)
            }
            Rule::Total => {
                let bytes = number(amounts::bytes, amounts::SIZES)?;
                self.limits(rules, |limits| limits.bytes = bytes)
            }
            Rule::Sensitive => RulesChange { sensitive_seconds: Some(seconds(amounts::SPANS)?), ..none() },
            Rule::History => RulesChange { history: Some(either("on", "off")?), ..none() },
            Rule::Primary => RulesChange { primary: Some(either("on", "off")?), ..none() },
            Rule::Kinds => {
                let kind = |word: &str| KindWord::from_str(word.trim(), true).map(Kind::from);
                let all = || Ok(vec![Kind::Text, Kind::Link, Kind::Image, Kind::Files]);
                let kinds = if word == "all" { all() } else { value.split(',').map(kind).collect() };
                RulesChange {
                    kinds: Some(
                        kinds.map_err(|_| refuse("text, link, image and files with commas between them, or all"))?,
                    ),
                    ..none()
                }
            }
            Rule::Largest => {
                let bytes = amounts::bytes(value).filter(|bytes| *bytes > 0).ok_or_else(|| refuse(amounts::SIZES))?;
                RulesChange { largest: Some(bytes), ..none() }
            }
            Rule::Repeats => RulesChange { repeat_millis: Some(number(amounts::span, "500ms, 2s")?), ..none() },
            Rule::LogOut => RulesChange { forget_at_log_out: Some(either("forget", "keep")?), ..none() },
            Rule::Feedback => {
                let ways = match word.as_str() {
                    "off" | "none" => Ok(Vec::new()),
                    _ => word.split(',').map(|way| feedback(way.trim()).ok_or(())).collect(),
                };
                let ways =
                    ways.map_err(|()| refuse("notification, sound and flash with commas between them, or off"))?;
                RulesChange { feedback: Some(ways), ..none() }
            }
            Rule::Recall => RulesChange { recall_to_top: Some(either("top", "stay")?), ..none() },
        })
    }

    fn limits(&self, rules: &InForce, change: impl FnOnce(&mut Limits)) -> RulesChange {
        let kind = self.kind.map(Kind::from);
        if kind.is_none() && self.app.is_none() {
            let mut limits = rules.limits;
            change(&mut limits);
            return RulesChange { limits: Some(limits), ..RulesChange::default() };
        }
        let mut scopes = rules.scopes.clone();
        let same = |scope: &&mut ScopeLimits| {
            let named = |name: &Option<String>| name.as_deref().map(str::to_lowercase);
            scope.kind == kind && named(&scope.application) == named(&self.app)
        };
        match scopes.iter_mut().find(same) {
            Some(scope) => change(&mut scope.limits),
            None => {
                let mut limits = Limits::default();
                change(&mut limits);
                scopes.push(ScopeLimits { kind, application: self.app.clone(), limits });
            }
        }
        RulesChange { scopes: Some(scopes), ..RulesChange::default() }
    }
}

fn feedback(word: &str) -> Option<Feedback> {
    match word {
        "notification" => Some(Feedback::Notification),
        "sound" => Some(Feedback::Sound),
        "flash" => Some(Feedback::Flash),
        _ => None,
    }
}

fn show(context: &Context, rules: &InForce) -> Result<(), Failure> {
    if context.json {
        return print_json(rules);
    }
    let style = Style::of_stdout();
    say(&style.strong("What is captured"))?;
    rules.capture_sentences.iter().try_for_each(|sentence| say(&safe(sentence)))?;
    say("")?;
    say(&style.strong("How long it stays"))?;
    rules.retention_sentences.iter().try_for_each(|sentence| say(&safe(sentence)))?;
    say("")?;
    say(&style.faint("Change them with: yadori rules set; see what would go with: yadori rules preview"))
}

fn set(context: &Context, service: &Client, change: &Change, clear: bool, yes: bool) -> Result<(), Failure> {
    if clear && !(change.rule == Rule::History && change.value.eq_ignore_ascii_case("off")) {
        return Err(Failure::Usage("--clear goes with: yadori rules set history off".into()));
    }
    let before: InForce = service.get("/rules")?;
    let mut asked = change.from(&before)?;
    let preview: SweepPreview = service.post("/rules/preview", &asked)?;
    if preview.drastic {
        let question = format!(
            "This removes {} of {}. Continue?",
            preview.count,
            count(preview.count + preview.staying, "clip", "clips")
        );
        if !confirm(&question, yes)? {
            return say("Nothing was changed.");
        }
        asked.confirmed = true;
    }
    if clear {
        let would: Cleared = service.post("/clear", &Clear { all: true, dry_run: true, ..Clear::default() })?;
        let kept = count(would.kept, "kept clip", "kept clips");
        let question = format!("Turn the history off and clear {}? {kept} stay.", count(would.count, "clip", "clips"));
        if !confirm(&question, yes)? {
            return say("Nothing was changed.");
        }
    }
    let rules: InForce = service.patch("/rules", &asked)?;
    if clear {
        let _: Cleared = service.post("/clear", &Clear { all: true, ..Clear::default() })?;
    }
    if context.json {
        return print_json(&rules);
    }
    let all = |rules: &InForce| [rules.capture_sentences.clone(), rules.retention_sentences.clone()].concat();
    let known = all(&before);
    let new: Vec<String> = all(&rules).into_iter().filter(|sentence| !known.contains(sentence)).collect();
    if new.is_empty() {
        let gone: Vec<String> = known.into_iter().filter(|sentence| !all(&rules).contains(sentence)).collect();
        return say(&match gone.first() {
            Some(gone) => format!("No longer: {}", safe(gone)),
            None => "That was the rule already.".to_owned(),
        });
    }
    new.iter().try_for_each(|sentence| say(&safe(sentence)))?;
    if preview.count > 0 {
        tell!("{} will move to the bin.", count(preview.count, "clip", "clips"));
    }
    if clear {
        tell!("The history is cleared. Undo with: yadori undo");
    }
    Ok(())
}

fn preview(context: &Context, service: &Client, change: &Change) -> Result<(), Failure> {
    let rules: InForce = service.get("/rules")?;
    let preview: SweepPreview = service.post("/rules/preview", &change.from(&rules)?)?;
    if context.json {
        return print_json(&preview);
    }
    preview.sentences.iter().try_for_each(|sentence| say(&safe(sentence)))?;
    say("")?;
    say(&format!(
        "{} ({}) would move to the bin; {} and {} would stay.",
        count(preview.count, "clip", "clips"),
        size(preview.bytes),
        preview.staying,
        count(preview.kept, "kept clip", "kept clips")
    ))?;
    going(&preview)
}

fn going(preview: &SweepPreview) -> Result<(), Failure> {
    let style = Style::of_stdout();
    for going in &preview.first {
        let shown = going.clip.title.as_deref().unwrap_or(&going.clip.preview);
        let position = going.clip.position.map_or_else(|| "-".to_owned(), |position| position.to_string());
        let shown = crate::terminal::fit(&safe(shown).replace('\n', " "), 50);
        say(&format!("{position:>5}  {:<5}  {shown}  {}", going.clip.kind.word(), style.faint(&safe(&going.rule))))?;
    }
    let more = preview.count.saturating_sub(preview.first.len() as u64);
    if more > 0 { say(&format!("       and {more} more")) } else { Ok(()) }
}

fn ignore(context: &Context, service: &Client, what: Ignored, ignore: bool) -> Result<(), Failure> {
    let rules: InForce = service.get("/rules")?;
    let mut change = RulesChange::default();
    let edit = |list: &[String], entry: &str| -> Result<Vec<String>, Failure> {
        let same = |known: &String| known.to_lowercase() == entry.to_lowercase();
        let mut list = list.to_vec();
        match (ignore, list.iter().any(same)) {
            (true, true) => {}
            (true, false) => list.push(entry.to_owned()),
            (false, true) => list.retain(|known| !same(known)),
            (false, false) => {
                return Err(Failure::Here(format!("“{}” is not ignored; see: yadori rules", safe(entry))));
            }
        }
        Ok(list)
    };
    if let Some(name) = &what.app {
        change.ignored_applications = Some(edit(&rules.ignored_applications, name)?);
    }
    if let Some(pattern) = &what.pattern {
        change.ignored_patterns = Some(edit(&rules.ignored_patterns, pattern)?);
    }
    let rules: InForce = service.patch("/rules", &change)?;
    if context.json {
        return print_json(&rules);
    }
    let what = match (what.app, what.pattern) {
        (Some(name), _) => format!("what is copied in {}", safe(&name)),
        (_, pattern) => format!("text that matches {}", safe(&pattern.unwrap_or_default())),
    };
    say(&format!("{} {what}", if ignore { "No longer captured:" } else { "Captured again:" }))
}

fn sweep(context: &Context, service: &Client, yes: bool) -> Result<(), Failure> {
    let preview: SweepPreview = service.post("/rules/preview", &RulesChange::default())?;
    if preview.count > 0 && !yes {
        going(&preview)?;
    }
    let question =
        format!("Move {} to the bin by the rules? {} stay.", count(preview.count, "clip", "clips"), preview.staying);
    if preview.count > 0 && !confirm(&question, yes)? {
        return say("Nothing was removed.");
    }
    let swept: Swept = service.post("/sweep", &serde_json::json!({}))?;
    if context.json {
        return print_json(&swept);
    }
    say(&if swept.count == 0 {
        "Nothing is due.".to_owned()
    } else {
        format!("Moved {} to the bin", count(swept.count, "clip", "clips"))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn change(rule: Rule, value: &str, kind: Option<KindWord>) -> Result<RulesChange, String> {
        let rules: InForce = serde_json::from_value(serde_json::json!({
            "history": true, "primary": false, "kinds": ["text"], "largest": 1, "ignored_applications": [],
            "ignored_patterns": [], "repeat_millis": 0, "forget_at_log_out": false, "recall_to_top": false,
            "limits": {"count": 2000, "age_seconds": 60, "bytes": 5}, "scopes": [], "sensitive_seconds": 600,
        }))
        .unwrap();
        let change = Change { rule, value: value.into(), kind, app: None };
        change.from(&rules).map_err(|failure| format!("{failure:?}"))
    }

    #[test]
    fn rules_are_set_in_the_forms_people_use() {
        let limits = change(Rule::Age, "90d", None).unwrap().limits.unwrap();
        assert_eq!(limits, Limits { count: 2000, age_seconds: 90 * 86_400, bytes: 5 });
        assert_eq!(change(Rule::Total, "2 GiB", None).unwrap().limits.unwrap().bytes, 2 << 30);
        assert_eq!(change(Rule::Count, "off", None).unwrap().limits.unwrap().count, 0);
        let scopes = change(Rule::Count, "50", Some(KindWord::Image)).unwrap().scopes.unwrap();
        assert_eq!((scopes.len(), scopes[0].limits.count), (1, 50));
        assert_eq!(change(Rule::Kinds, "all", None).unwrap().kinds.unwrap().len(), 4);
        let ways = change(Rule::Feedback, "Sound, flash", None).unwrap().feedback.unwrap();
        assert_eq!(ways, [Feedback::Sound, Feedback::Flash]);
        assert_eq!(change(Rule::Feedback, "off", None).unwrap().feedback, Some(Vec::new()));
        assert_eq!(change(Rule::LogOut, "forget", None).unwrap().forget_at_log_out, Some(true));
    }

    #[test]
    fn nonsense_is_refused_with_the_forms_that_are_accepted() {
        assert!(change(Rule::Age, "soon", None).unwrap_err().contains("90d"));
        assert!(change(Rule::Total, "much", None).unwrap_err().contains("2 GiB"));
        assert!(change(Rule::Count, "0", None).unwrap_err().contains("off"));
        assert!(change(Rule::Feedback, "bell", None).unwrap_err().contains("sound"));
        assert!(change(Rule::History, "maybe", None).unwrap_err().contains("on, or off"));
        assert!(change(Rule::Kinds, "text,movie", None).is_err());
        assert!(change(Rule::Primary, "on", Some(KindWord::Text)).is_err());
    }
}
