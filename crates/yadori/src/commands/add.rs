use super::attributes::colour;
use super::{named, print_json, say};
use crate::Context;
use crate::failure::Failure;
use clap::Args;
use jiff::Timestamp;
use std::io::{IsTerminal, Read};
use std::path::{Path, PathBuf};
use yadori_api::{AddQuery, Added, Colour};

/// Add a clip without copying it
///
/// The clip is made of the arguments, of a file, or of standard input. Pictures are recognised by their
/// content, HTML and SVG by the file's name; all else must be text in UTF-8.
#[derive(Args)]
pub struct Add {
    /// The text; - or nothing reads standard input
    #[arg(conflicts_with_all = ["file", "path"])]
    text: Vec<String>,

    /// Read the clip from this file
    #[arg(long, value_name = "FILE", conflicts_with = "path")]
    file: Option<PathBuf>,

    /// Make a clip of these files' places, as a file manager does when it copies them
    #[arg(long, value_name = "FILE", num_args = 1..)]
    path: Vec<PathBuf>,

    /// Give it a title
    #[arg(long)]
    title: Option<String>,

    /// Pin it
    #[arg(long)]
    pin: bool,

    /// Put it into this drawer
    #[arg(long, value_name = "DRAWER")]
    drawer: Option<String>,

    /// Give it an alias; it is pinned then, unless it comes into a drawer
    #[arg(long, value_name = "ALIAS")]
    alias: Option<String>,

    /// Mark it with a colour: amber, brick, fern, lagoon, plum or slate
    #[arg(long, value_name = "COLOUR", value_parser = colour)]
    mark: Option<Colour>,

    /// Fill in its placeholders whenever it is recalled (see: yadori help fill)
    #[arg(long)]
    fill: bool,

    /// What it is, as a MIME type, if that cannot be seen
    #[arg(long = "type", value_name = "MIME")]
    mime: Option<String>,

    /// When it was copied, if not now (2026-11-01T14:30:00Z)
    #[arg(long, value_name = "TIME")]
    at: Option<Timestamp>,

    /// The application it is from
    #[arg(long, value_name = "NAME")]
    app: Option<String>,
}

impl Add {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let (content, seen) = self.content()?;
        let mime = match (&self.mime, seen) {
            (Some(mime), _) => mime.clone(),
            (None, Some(mime)) => mime.to_owned(),
            (None, None) => {
                let hint = "to keep the place of a file instead of its content, use: yadori add --path FILE";
                return Err(Failure::Here(format!(
                    "this is neither text in UTF-8 nor a picture that is known\n  {hint}"
                )));
            }
        };
        let attributes = AddQuery {
            title: self.title,
            copied_at: self.at,
            application: self.app,
            window: None,
            pin: self.pin,
            drawer: self.drawer,
            mark: self.mark,
            alias: self.alias,
            fill: self.fill,
        };
        let added: Added = context.service()?.post_content("/clips", &attributes, &mime, &content)?;
        if context.json {
            return print_json(&added);
        }
        let done = match (added.new, self.at.is_some()) {
            (true, _) => "Added",
            (false, true) => "Already there",
            (false, false) => "Already there, moved to the top",
        };
        say(&format!("{done}: {}", named(std::slice::from_ref(&added.clip))))?;
        let soon = jiff::Timestamp::now().as_second() + 3600;
        if !added.clip.pinned
            && added.clip.drawer.is_none()
            && added.clip.expires_at.is_some_and(|at| at.as_second() < soon)
        {
            let id = &added.clip.id[..added.clip.id.len().min(8)];
            tell!("It is older than the rules allow, and will be deleted soon. Keep it with: yadori pin {id}");
        }
        Ok(())
    }

    /// The content, and what it seems to be.
    fn content(&self) -> Result<(Vec<u8>, Option<&'static str>), Failure> {
        if !self.path.is_empty() {
            let uris: Result<Vec<String>, Failure> = self.path.iter().map(|path| file_uri(path)).collect();
            return Ok((uris?.join("\r\n").into_bytes(), Some("text/uri-list")));
        }
        if let Some(file) = &self.file {
            let content = std::fs::read(file)
                .map_err(|error| Failure::Here(format!("{} cannot be read: {error}", file.display())))?;
            let seen = recognise(&content, Some(file));
            return Ok((content, seen));
        }
        if self.text.is_empty() || self.text == ["-"] {
            let mut input = std::io::stdin().lock();
            if self.text.is_empty() && input.is_terminal() {
                return Err(Failure::Usage(
                    "there is nothing to add: give some text, --file, or pipe something in".into(),
                ));
            }
            let mut content = Vec::new();
            input.read_to_end(&mut content)?;
            let seen = recognise(&content, None);
            return Ok((content, seen));
        }
        Ok((self.text.join(" ").into_bytes(), Some("text/plain")))
    }
}

fn file_uri(path: &Path) -> Result<String, Failure> {
    use std::os::unix::ffi::OsStrExt;
    let unusable = |error: std::io::Error| Failure::Here(format!("{}: {error}", path.display()));
    path.symlink_metadata().map_err(unusable)?;
    let whole = std::path::absolute(path).map_err(unusable)?;
    let mut uri = String::from("file://");
    for byte in whole.as_os_str().as_bytes() {
        if byte.is_ascii_alphanumeric() || b"-_.~/".contains(byte) {
            uri.push(char::from(*byte));
        } else {
            uri.push_str(&format!("%{byte:02X}"));
        }
    }
    Ok(uri)
}

/// What content is, by its first bytes, or else by the name of its file.
fn recognise(content: &[u8], file: Option<&Path>) -> Option<&'static str> {
    match content {
        [0x89, b'P', b'N', b'G', ..] => return Some("image/png"),
        [0xff, 0xd8, 0xff, ..] => return Some("image/jpeg"),
        [b'R', b'I', b'F', b'F', _, _, _, _, b'W', b'E', b'B', b'P', ..] => return Some("image/webp"),
        [b'I', b'I', 42, 0, ..] | [b'M', b'M', 0, 42, ..] => return Some("image/tiff"),
        [b'B', b'M', _, _, _, _, 0, 0, 0, 0, ..] => return Some("image/bmp"),
        _ => {}
    }
    let text = std::str::from_utf8(content).ok().filter(|text| !text.contains('\0'))?;
    let ending =
        file.and_then(Path::extension).and_then(|ending| ending.to_str()).unwrap_or_default().to_ascii_lowercase();
    Some(match ending.as_str() {
        "html" | "htm" => "text/html",
        "svg" => "image/svg+xml",
        _ if text.trim_start().starts_with("<svg") => "image/svg+xml",
        _ => "text/plain",
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn content_is_recognised_by_what_it_is() {
        assert_eq!(recognise(b"\x89PNG\r\n", None), Some("image/png"));
        assert_eq!(recognise("Grüße".as_bytes(), None), Some("text/plain"));
        assert_eq!(recognise(b"<p>hi", Some(Path::new("a.HTML"))), Some("text/html"));
        assert_eq!(recognise(b"BMW is a car", None), Some("text/plain"));
        assert_eq!(recognise(b"%PDF\xff", None), None);
        assert_eq!(recognise(b"a\0b", None), None);
    }

    #[test]
    fn places_of_files_are_uris() {
        assert_eq!(file_uri(Path::new("/")).unwrap(), "file:///");
        assert!(file_uri(Path::new("/no/such/file")).is_err());
    }
}
