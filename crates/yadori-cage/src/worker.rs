//! The process that decodes.

use crate::decoding::{self, PictureError};
use crate::{archive, confinement, wire};
use std::io::{self, BufReader, BufWriter, Write};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::process::ExitCode;
use yadori_core::format;
use yadori_core::html::{self, Markup};

/// Decodes what comes in on standard input, and answers on standard output, until that is closed. It gives up all rights
/// first.
pub fn work() -> ExitCode {
    // What goes wrong is answered; a report of it would look for files.
    std::panic::set_hook(Box::new(|_| {}));
    confinement::close_all_else();
    keep_memory();
    if let Err(reason) = confinement::confine() {
        let _ = writeln!(io::stderr(), "yadorid: pictures, pages and archives are not read: {reason}");
        return ExitCode::FAILURE;
    }
    let (mut input, mut output) = (BufReader::with_capacity(1 << 16, io::stdin()), io::stdout());
    while let Ok(Some((mime, data))) = wire::read_request(&mut input) {
        if mime == wire::ARCHIVE {
            // A worker for an archive does nothing else, and ends with it.
            let _ = archive::serve(&mut input, &mut BufWriter::with_capacity(1 << 16, output), &data);
            break;
        }
        if let format::HTML | wire::AS_MARKDOWN = mime.as_str() {
            let read = || match mime.as_str() {
                format::HTML => wire::write_markup(&mut output, &Markup::read(&data)),
                _ => wire::write_text(&mut output, &html::to_markdown(&data)),
            };
            // Whoever waits for it sees the end of this process if it fails.
            match catch_unwind(AssertUnwindSafe(read)) {
                Ok(Ok(())) => continue,
                _ => break,
            }
        }
        let failed = |_| Err(PictureError::Broken("the decoder failed over it".into()));
        let decoded = catch_unwind(AssertUnwindSafe(|| decoding::decode(&mime, &data))).unwrap_or_else(failed);
        drop(data);
        let (known, rgba) = decoded.map_or_else(|error| (Err(error), None), |(known, rgba)| (Ok(known), Some(rgba)));
        if wire::write_known(&mut output, &known).is_err() {
            break;
        }
        let Some(rgba) = rgba else { continue };
        let failed = |_| Err(PictureError::Broken("no small picture could be made".into()));
        let small = catch_unwind(AssertUnwindSafe(|| decoding::small(rgba))).unwrap_or_else(failed);
        if wire::write_small(&mut output, &small).is_err() {
            break;
        }
    }
    ExitCode::SUCCESS
}

/// Memory that was used once is used again: the system would have to wipe it each time. What is beyond some pictures goes
/// back.
fn keep_memory() {
    // SAFETY: glibc's own, before anything large is allocated (mallopt(3)).
    #[cfg(target_env = "gnu")]
    unsafe {
        libc::mallopt(libc::M_MMAP_THRESHOLD, 1 << 29);
        libc::mallopt(libc::M_TRIM_THRESHOLD, 64 << 20);
    }
}
