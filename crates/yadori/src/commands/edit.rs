use super::{named, print_json, say};
use crate::Context;
use crate::failure::Failure;
use crate::fetching::asking;
use crate::terminal::{Style, safe};
use clap::Args;
use std::io::{IsTerminal, Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;
use yadori_api::{ClipDetail, ContentQuery, EditQuery, Edited, Kind, Reshape as Asked, Reshaped, Way};
use yadori_client::{Client, in_path};

/// Change the words of a clip
///
/// Opens $VISUAL or $EDITOR, unless the new text is given. A new clip takes the old one's place, title,
/// pin, drawer, mark and alias; the old one goes to the bin (yadori undo brings it back). If the old one
/// is copied again while you edit, it stays in the history beside the new one.
#[derive(Args)]
pub struct Edit {
    /// The clip
    clip: String,

    /// The new text; - reads standard input
    text: Vec<String>,
}

/// Transform a clip's text
///
/// Shows the text before and after. The new clip takes the old one's place, as with edit. To reshape on
/// the way out only, use: yadori recall 3 --reshape trim,upper
#[derive(Args)]
pub struct Reshape {
    /// The clip
    #[arg(required_unless_present = "list")]
    clip: Option<String>,

    /// The ways, one after the other: trim upper, or trim,upper
    #[arg(required_unless_present = "list")]
    ways: Vec<String>,

    /// Only show what would come of it
    #[arg(long)]
    dry_run: bool,

    /// List the ways
    #[arg(long, conflicts_with = "clip")]
    list: bool,
}

impl Edit {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        let detail: ClipDetail = service.get(&format!("/clips/{}", in_path(&self.clip)))?;
        if !matches!(detail.clip.kind, Kind::Text | Kind::Link) {
            return Err(Failure::Here(format!("this is {}, whose words cannot be changed", detail.clip.kind.word())));
        }
        let text = match self.text.as_slice() {
            [] => match edited(&service, &detail)? {
                Some(text) => text,
                None => return say("Nothing was changed."),
            },
            [dash] if dash == "-" => {
                let mut text = Vec::new();
                std::io::stdin().lock().read_to_end(&mut text)?;
                text
            }
            words => words.join(" ").into_bytes(),
        };
        // By its id: the history may have moved on meanwhile.
        let path = format!("/clips/{}/text", detail.clip.id);
        let asked = EditQuery { copies: Some(detail.clip.copies) };
        let edited: Edited = service.put_content(&path, &asked, "text/plain", &text)?;
        if context.json {
            return print_json(&edited);
        }
        if !edited.changed {
            return say("Nothing was changed.");
        }
        let stays = if edited.old_stays { "; the old one was copied again meanwhile, and stays too" } else { "" };
        say(&format!("Changed: {}{stays}", named(std::slice::from_ref(&edited.clip))))
    }
}

/// What the person makes of the clip's text in their editor; none when they left it as it was.
fn edited(service: &Client, detail: &ClipDetail) -> Result<Option<Vec<u8>>, Failure> {
    let set = |name| std::env::var(name).ok().filter(|value| !value.trim().is_empty());
    let editor = set("VISUAL").or_else(|| set("EDITOR"));
    let Some(editor) = editor else {
        return Err(Failure::Usage("no editor is known: set VISUAL or EDITOR, or give the new text".into()));
    };
    let mut before = Vec::new();
    let plain = detail.formats.iter().any(|format| format.mime == "text/plain").then(|| "text/plain".to_owned());
    match plain {
        Some(format) => {
            let query = ContentQuery { format: Some(format), at_once: true };
            let path = format!("/clips/{}/content", detail.clip.id);
            let content = asking(service, std::slice::from_ref(&detail.clip.id), || service.get_bytes(&path, &query))?;
            { content }.read_to_end(&mut before)?;
        }
        None => before = detail.text.clone().unwrap_or_default().into_bytes(),
    }
    let file = Draft::new(&before)?;
    // As a shell would read it, so that it may have arguments.
    let run = Command::new("sh").arg("-c").arg(format!("{editor} \"$1\"")).arg("sh").arg(&file.0).status()?;
    if !run.success() {
        return Err(Failure::Here(format!("the editor ended with {run}; nothing is changed")));
    }
    let mut after = std::fs::read(&file.0)?;
    // Editors end the last line of a file; the clip's had no end.
    if !before.ends_with(b"\n") && after.ends_with(b"\n") {
        after.pop();
    }
    Ok((after != before).then_some(after))
}

/// A file that only this user can read, which is removed at the end.
struct Draft(PathBuf);

impl Draft {
    fn new(content: &[u8]) -> Result<Self, Failure> {
        let folder = std::env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from).filter(|path| path.is_dir());
        let folder = folder.unwrap_or_else(std::env::temp_dir);
        for attempt in 0..100 {
            let path = folder.join(format!("yadori-{}-{attempt}.txt", std::process::id()));
            let mut options = std::fs::OpenOptions::new();
            match options.write(true).create_new(true).mode(0o600).open(&path) {
                Ok(mut file) => {
                    let draft = Self(path);
                    file.write_all(content)?;
                    return Ok(draft);
                }
                Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {}
                Err(error) => return Err(error.into()),
            }
        }
        Err(Failure::Here(format!("no file for the editor can be made in {}", Path::new(&folder).display())))
    }
}

impl Drop for Draft {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.0);
    }
}

impl Reshape {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        if self.list {
            let ways: Vec<Way> = service.get("/ways")?;
            if context.json {
                return print_json(&ways);
            }
            return ways.iter().try_for_each(|way| say(&format!("{:<13} {}", way.name, way.does)));
        }
        let asked = Asked { clip: self.clip.unwrap_or_default(), ways: self.ways, save: !self.dry_run };
        let reshaped: Reshaped = service.post("/reshape", &asked)?;
        if context.json {
            return print_json(&reshaped);
        }
        let style = Style::of_stdout();
        say(&style.faint("before"))?;
        say(safe(&reshaped.before).trim_end_matches('\n'))?;
        say(&style.faint("after"))?;
        say(safe(&reshaped.after).trim_end_matches('\n'))?;
        if std::io::stdout().is_terminal() && !self.dry_run {
            tell!("{}", style.faint("Undo with: yadori undo"));
        }
        Ok(())
    }
}
