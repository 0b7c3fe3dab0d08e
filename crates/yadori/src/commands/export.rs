use super::{print_json, say};
use crate::Context;
use crate::failure::Failure;
use crate::terminal::{count, safe, size};
use clap::{Args, ValueEnum};
use indicatif::{ProgressBar, ProgressStyle};
use std::fs::File;
use std::io::{BufRead, BufReader, IsTerminal, Read, Write};
use std::path::PathBuf;
use yadori_api::{ExportForm, ExportQuery, ImportProgress};

/// Export clips to a file: all of them, or a selection
///
/// A zip holds everything and can be imported again, here or elsewhere. What looks like a secret is left
/// out.
#[derive(Args)]
pub struct Export {
    /// The file; - writes to standard output
    file: PathBuf,

    /// Only these clips
    #[arg(conflicts_with_all = ["find", "drawer"])]
    clips: Vec<String>,

    /// Only the clips that match this query
    #[arg(long, value_name = "QUERY")]
    find: Option<String>,

    /// Only this drawer
    #[arg(long, value_name = "NAME", conflicts_with = "find")]
    drawer: Option<String>,

    /// The form of the file [default: by the file's name, or zip]
    #[arg(long = "as", value_name = "FORM")]
    form: Option<Form>,

    /// Overwrite an existing file
    #[arg(long)]
    force: bool,
}

#[derive(Clone, Copy, ValueEnum)]
enum Form {
    /// Everything, to be imported again
    Zip,
    /// The texts
    Text,
    /// A page for a browser
    Html,
    /// A table
    Csv,
}

/// Import clips from a zip that was exported before
///
/// What is here already stays as it is; whatever is not right is left out, and told.
#[derive(Args)]
pub struct Import {
    /// The file; - reads standard input
    file: PathBuf,
}

impl Export {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let ending = self.file.extension().and_then(|ending| ending.to_str()).unwrap_or_default().to_ascii_lowercase();
        let form = match (self.form, ending.as_str()) {
            (Some(Form::Zip), _) => ExportForm::Zip,
            (Some(Form::Text), _) | (None, "txt") => ExportForm::Text,
            (Some(Form::Html), _) | (None, "html" | "htm") => ExportForm::Html,
            (Some(Form::Csv), _) | (None, "csv") => ExportForm::Csv,
            (None, "zip" | "") => ExportForm::Zip,
            (None, other) => {
                let why = format!(
                    "can't tell what “.{other}” should hold; name the file .zip, .txt, .html or .csv, or add --as zip"
                );
                return Err(Failure::Usage(why));
            }
        };
        let clips = (!self.clips.is_empty()).then(|| self.clips.join(","));
        let selected = clips.is_some() || self.find.is_some() || self.drawer.is_some();
        let asked = ExportQuery { form, q: self.find, clips, drawer: self.drawer };
        let to_stdout = self.file.as_os_str() == "-";
        if to_stdout && form == ExportForm::Zip && std::io::stdout().is_terminal() {
            return Err(Failure::Usage(
                "a terminal can't show a zip; name a file, pipe it on, or add --as text".into(),
            ));
        }
        if !to_stdout && !self.force && self.file.exists() {
            return Err(Failure::Here(format!("{} exists already; overwrite it with --force", self.file.display())));
        }
        let (clips, left_out, mut content) = context.service()?.get_stream("/export", &asked)?;
        if clips == 0 && (selected || left_out > 0) {
            let why = match left_out {
                0 => "no clips to export; nothing was written".to_owned(),
                1 => {
                    "nothing was written: the clip looks like a secret; if it isn't one: yadori unmask CLIP".to_owned()
                }
                _ => format!("nothing was written: all {left_out} clips look like secrets; see: yadori help unmask"),
            };
            return Err(Failure::Here(why));
        }
        let bar = ProgressBar::new_spinner();
        if let Ok(style) = ProgressStyle::with_template("{spinner} {bytes} written, {bytes_per_sec}") {
            bar.set_style(style);
        }
        let bytes = if to_stdout {
            let mut out = std::io::stdout().lock();
            let bytes = std::io::copy(&mut content, &mut out)?;
            out.flush()?;
            bytes
        } else {
            let unusable =
                |error: std::io::Error| Failure::Here(format!("{} cannot be written: {error}", self.file.display()));
            let copied = yadori_files::write_private_with(&self.file, |file| {
                std::io::copy(&mut bar.wrap_read(&mut content), file)
            });
            copied.map_err(unusable)?
        };
        bar.finish_and_clear();
        if left_out > 0 {
            tell!("yadori: left out, since they look like secrets: {}", count(left_out, "clip", "clips"));
        }
        if to_stdout {
            return Ok(());
        }
        if context.json {
            return print_json(&serde_json::json!({ "clips": clips, "left_out": left_out, "bytes": bytes }));
        }
        say(&format!("Exported {} to {}, {}", count(clips, "clip", "clips"), self.file.display(), size(bytes)))
    }
}

impl Import {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let unusable =
            |error: std::io::Error| Failure::Here(format!("{} cannot be read: {error}", self.file.display()));
        let source: Box<dyn Read> = match self.file.as_os_str() == "-" {
            true => Box::new(std::io::stdin().lock()),
            false => Box::new(File::open(&self.file).map_err(unusable)?),
        };
        let bar = ProgressBar::new_spinner();
        if let Ok(style) = ProgressStyle::with_template("{spinner} {msg}") {
            bar.set_style(style);
        }
        let answer = context.service()?.post_stream("/import", "application/zip", bar.wrap_read(source))?;
        let mut last = ImportProgress::default();
        for line in BufReader::new(answer).lines() {
            let line = line?;
            last = serde_json::from_str(&line)
                .map_err(|error| Failure::Here(format!("the answer is not understood: {error}")))?;
            bar.set_message(format!("{} read", count(last.read, "clip", "clips")));
            bar.tick();
        }
        bar.finish_and_clear();
        let Some(report) = &last.report else {
            return Err(Failure::Here(
                "the service ended before the import did; run it again, nothing is imported twice".into(),
            ));
        };
        if context.json {
            print_json(&last)?;
        } else if last.error.is_none() || last.read > 0 {
            say(&format!(
                "Imported {}; already here: {}, restored from the bin: {}, left out: {}",
                count(report.added, "clip", "clips"),
                report.known,
                report.restored,
                report.skipped
            ))?;
        }
        for reason in &report.reasons {
            let id = reason.id.as_deref().map(|id| format!(", {}", safe(id))).unwrap_or_default();
            tell!("  left out, line {}{id}: {}", reason.line, safe(&reason.reason));
        }
        if report.skipped > report.reasons.len() as u64 {
            tell!("  and {} more", report.skipped - report.reasons.len() as u64);
        }
        if report.unused > 0 {
            tell!("  {} in the archive belong to no clip", count(report.unused, "file", "files"));
        }
        match last.error {
            Some(error) => Err(Failure::Here(error)),
            None => Ok(()),
        }
    }
}
