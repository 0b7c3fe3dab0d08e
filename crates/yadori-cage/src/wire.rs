//! What is said between the service and the worker: numbers are little-endian, and what is long has its length before it.

use crate::decoding::{Known, PictureError, Small};
use std::io::{self, ErrorKind, Read, Write};
use yadori_core::capture::Picture;
use yadori_core::html::Markup;

/// Most bytes of anything: more than is ever captured.
const MOST: u64 = 1 << 30;

/// Most bytes of an answer, which comes from a process that may be in strange hands.
const MOST_ANSWERED: u64 = 16 << 20;

/// Bytes before a picture: the lengths of its type and of its content.
pub(crate) const REQUEST_HEAD: usize = 16;

pub(crate) fn request_head(mime: &str, data: &[u8]) -> [u8; REQUEST_HEAD] {
    let mut head = [0; REQUEST_HEAD];
    head[..8].copy_from_slice(&(mime.len() as u64).to_le_bytes());
    head[8..].copy_from_slice(&(data.len() as u64).to_le_bytes());
    head
}

/// Reads a request; none at the end.
pub(crate) fn read_request(from: &mut impl Read) -> io::Result<Option<(String, Vec<u8>)>> {
    let mut lengths = [0; 8];
    match from.read_exact(&mut lengths) {
        Err(error) if error.kind() == ErrorKind::UnexpectedEof => return Ok(None),
        read => read?,
    }
    let mime = u64::from_le_bytes(lengths);
    from.read_exact(&mut lengths)?;
    let data = u64::from_le_bytes(lengths);
    let mime = String::from_utf8(bytes(from, mime, 1024)?).map_err(|_| ErrorKind::InvalidData)?;
    Ok(Some((mime, bytes(from, data, MOST)?)))
}

pub(crate) fn bytes(from: &mut impl Read, length: u64, most: u64) -> io::Result<Vec<u8>> {
    if length > most {
        return Err(ErrorKind::InvalidData.into());
    }
    let mut bytes = Vec::new();
    bytes.try_reserve_exact(length as usize).map_err(|_| ErrorKind::OutOfMemory)?;
    if from.take(length).read_to_end(&mut bytes)? as u64 == length {
        Ok(bytes)
    } else {
        Err(ErrorKind::UnexpectedEof.into())
    }
}

fn number(from: &mut impl Read) -> io::Result<u32> {
    let mut bytes = [0; 4];
    from.read_exact(&mut bytes)?;
    Ok(u32::from_le_bytes(bytes))
}

/// A first byte says what follows.
const FINE: u8 = 0;
const BROKEN: u8 = 1;
const TOO_LARGE: u8 = 2;

fn error(to: &mut Vec<u8>, error: &PictureError) {
    match error {
        PictureError::TooLarge(size) => {
            let (width, height) = size.unwrap_or_default();
            to.push(TOO_LARGE);
            to.extend(width.to_le_bytes());
            to.extend(height.to_le_bytes());
        }
        other => {
            let reason = other.to_string();
            to.push(BROKEN);
            to.extend((reason.len() as u64).to_le_bytes());
            to.extend(reason.as_bytes());
        }
    }
}

fn read_error(from: &mut impl Read, kind: u8) -> io::Result<PictureError> {
    Ok(match kind {
        TOO_LARGE => {
            let size = (number(from)?, number(from)?);
            PictureError::TooLarge((size != (0, 0)).then_some(size))
        }
        BROKEN => {
            let mut length = [0; 8];
            from.read_exact(&mut length)?;
            let reason = bytes(from, u64::from_le_bytes(length), 4096)?;
            PictureError::Broken(yadori_core::preview::one_line(&String::from_utf8_lossy(&reason), 200))
        }
        _ => return Err(ErrorKind::InvalidData.into()),
    })
}

/// What is known of a picture.
pub(crate) fn write_known(to: &mut impl Write, known: &Result<Known, PictureError>) -> io::Result<()> {
    let mut all = Vec::new();
    match known {
        Ok(Known { width, height, picture }) => {
            all.push(FINE);
            all.extend(width.to_le_bytes());
            all.extend(height.to_le_bytes());
            all.push(picture.is_some().into());
            all.extend(picture.as_ref().map_or([0; 40], |picture| picture.canonical));
        }
        Err(failure) => error(&mut all, failure),
    }
    to.write_all(&all)?;
    to.flush()
}

pub(crate) fn read_known(from: &mut impl Read) -> io::Result<Result<Known, PictureError>> {
    let mut kind = [0];
    from.read_exact(&mut kind)?;
    if kind[0] != FINE {
        return Ok(Err(read_error(from, kind[0])?));
    }
    let (width, height) = (number(from)?, number(from)?);
    let mut rest = [0; 41];
    from.read_exact(&mut rest)?;
    let canonical = rest[1..].try_into().map_err(|_| ErrorKind::InvalidData)?;
    let picture = (rest[0] == 1).then_some(Picture { width, height, canonical });
    Ok(Ok(Known { width, height, picture }))
}

/// The small picture.
pub(crate) fn write_small(to: &mut impl Write, small: &Result<Small, PictureError>) -> io::Result<()> {
    let mut head = Vec::new();
    match small {
        Ok(small) => {
            head.push(FINE);
            head.extend((small.content.len() as u64).to_le_bytes());
        }
        Err(failure) => error(&mut head, failure),
    }
    to.write_all(&head)?;
    if let Ok(small) = small {
        to.write_all(&small.content)?;
    }
    to.flush()
}

pub(crate) fn read_small(from: &mut impl Read) -> io::Result<Result<Small, PictureError>> {
    let mut kind = [0];
    from.read_exact(&mut kind)?;
    if kind[0] != FINE {
        return Ok(Err(read_error(from, kind[0])?));
    }
    let mut length = [0; 8];
    from.read_exact(&mut length)?;
    Ok(Ok(Small { mime: "image/png", content: bytes(from, u64::from_le_bytes(length), MOST_ANSWERED)? }))
}

/// What asks for a page as Markdown, in the place of the type of the page.
pub(crate) const AS_MARKDOWN: &str = "text/markdown";

/// What asks for an archive to be read, in the place of a type: see `archive`.
pub(crate) const ARCHIVE: &str = "yadori/archive";

/// A text.
pub(crate) fn write_text(to: &mut impl Write, text: &str) -> io::Result<()> {
    to.write_all(&[&(text.len() as u64).to_le_bytes(), text.as_bytes()].concat())?;
    to.flush()
}

pub(crate) fn read_text(from: &mut impl Read) -> io::Result<String> {
    let mut length = [0; 8];
    from.read_exact(&mut length)?;
    Ok(String::from_utf8(bytes(from, u64::from_le_bytes(length), MOST)?).map_err(|_| ErrorKind::InvalidData)?)
}

/// What a page says: its words, whether it has one link, with its two texts, and one picture.
pub(crate) fn write_markup(to: &mut impl Write, markup: &Markup) -> io::Result<()> {
    let (href, title) = markup.link.as_ref().map(|(href, title)| (href.as_str(), title.as_str())).unzip();
    let mut all = Vec::new();
    for text in [Some(markup.text.as_str()), href, title, markup.picture.as_deref()] {
        all.push(text.is_some().into());
        text.map_or(Ok(()), |text| write_text(&mut all, text))?;
    }
    to.write_all(&all)?;
    to.flush()
}

pub(crate) fn read_markup(from: &mut impl Read) -> io::Result<Markup> {
    let mut text = || -> io::Result<Option<String>> {
        let mut is_there = [0];
        from.read_exact(&mut is_there)?;
        (is_there[0] != 0).then(|| read_text(from)).transpose()
    };
    let (words, href, title, picture) = (text()?, text()?, text()?, text()?);
    Ok(Markup { text: words.unwrap_or_default(), link: href.zip(title), picture })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read() {
        let picture = Picture { width: 3, height: 2, canonical: [7; 40] };
        let answers = [
            Ok(Known { width: 3, height: 2, picture: Some(picture) }),
            Ok(Known { width: 1, height: 1, picture: None }),
            Err(PictureError::TooLarge(Some((40_000, 40_000)))),
            Err(PictureError::TooLarge(None)),
            Err(PictureError::Broken("no picture".into())),
        ];
        for answer in answers {
            let mut written = Vec::new();
            write_known(&mut written, &answer).unwrap();
            assert_eq!(read_known(&mut &written[..]).unwrap(), answer);
            for end in 0..written.len() {
                assert!(read_known(&mut &written[..end]).is_err(), "{answer:?} cut off at {end}");
            }
        }
        let small = Ok(Small { mime: "image/png", content: vec![1; 9] });
        let mut written = Vec::new();
        write_small(&mut written, &small).unwrap();
        assert_eq!(read_small(&mut &written[..]).unwrap(), small);
        for markup in [
            Markup::default(),
            Markup {
                text: "load-in".into(),
                link: Some(("https://example.org".into(), "stalls".into())),
                picture: None,
            },
        ] {
            let mut written = Vec::new();
            write_markup(&mut written, &markup).unwrap();
            assert_eq!(read_markup(&mut &written[..]).unwrap(), markup);
            assert!(read_markup(&mut &written[..written.len() - 1]).is_err());
        }
        let sent = [&request_head("image/png", b"abc")[..], b"image/png", b"abc"].concat();
        assert_eq!(read_request(&mut &sent[..]).unwrap(), Some(("image/png".into(), b"abc".to_vec())));
        assert_eq!(read_request(&mut &[][..]).unwrap(), None);
    }

    #[test]
    fn lengths_that_lie_take_no_memory() {
        let huge = [&[FINE][..], &u64::MAX.to_le_bytes()].concat();
        assert!(read_small(&mut &huge[..]).is_err());
        let huge = [&[BROKEN][..], &(1u64 << 40).to_le_bytes()].concat();
        assert!(read_known(&mut &huge[..]).is_err());
    }
}
