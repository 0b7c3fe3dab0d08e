//! The clipboard of the terminal itself, which may be at the other end of an SSH connection (OSC 52, as xterm has it).

use super::recall::Recall;
use super::{named, say};
use crate::Context;
use crate::failure::Failure;
use crate::terminal::is_quiet;
use std::fs::OpenOptions;
use std::io::{Read, Write};
use yadori_api::{Clip, ClipDetail, ContentQuery};
use yadori_client::{Client, in_path};

/// Most bytes that are sent: what common terminals take (100 kB in base64).
const MOST: usize = 74_994;

/// The sequence that puts a text on the clipboard of a terminal.
fn sequence(text: &[u8]) -> String {
    format!("\x1b]52;c;{}\x07", data_encoding::BASE64.encode(text))
}

/// The text of a clip.
fn text(service: &Client, name: &str) -> Result<Vec<u8>, Failure> {
    let mut text = Vec::new();
    let path = format!("/clips/{}/content", in_path(name));
    let query = ContentQuery { format: Some("text/plain".into()), at_once: false };
    service.get_bytes(&path, &query)?.read_to_end(&mut text)?;
    Ok(text)
}

/// Puts the texts of clips on the terminal's clipboard, joined as for a recall.
pub fn put(context: &Context, service: &Client, recall: Recall) -> Result<(), Failure> {
    let join = recall.separator().unwrap_or_else(|| "\n".into());
    let names = recall.names(service)?;
    let mut clips: Vec<Clip> = Vec::with_capacity(names.len());
    let mut texts: Vec<Vec<u8>> = Vec::with_capacity(names.len());
    for name in &names {
        clips.push(service.get::<ClipDetail>(&format!("/clips/{}", in_path(name)))?.clip);
        texts.push(text(service, name)?);
    }
    let text = texts.join(join.as_bytes());
    if text.len() > MOST {
        let why = format!("terminals take at most {MOST} bytes this way, and this has {}", text.len());
        return Err(Failure::Here(why));
    }
    let mut terminal = OpenOptions::new()
        .write(true)
        .open("/dev/tty")
        .map_err(|_| Failure::Here("there is no terminal whose clipboard could take it".into()))?;
    terminal.write_all(sequence(&text).as_bytes())?;
    terminal.flush()?;
    if context.json || is_quiet() {
        return Ok(());
    }
    say(&format!("Sent to the terminal's clipboard: {}", named(&clips)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sequence_carries_the_text_in_base64() {
        assert_eq!(sequence("gel 201 …".as_bytes()), "\x1b]52;c;Z2VsIDIwMSDigKY=\x07");
    }
}
