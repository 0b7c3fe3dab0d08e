//! White space within lines.

/// No white space around the text, nor at the ends of its lines.
pub fn trim(text: &str) -> String {
    let lines: Vec<&str> = text.trim().lines().map(str::trim_end).collect();
    lines.join("\n").trim().to_owned()
}

/// One space where there are several, of whatever kind; line ends stay.
pub fn squeeze(text: &str) -> String {
    let mut squeezed = String::with_capacity(text.len());
    let mut spaces = 0;
    for c in text.chars() {
        let is_space = c.is_whitespace() && c != '\n' && c != '\r';
        spaces = if is_space { spaces + 1 } else { 0 };
        match spaces {
            0 => squeezed.push(c),
            1 => squeezed.push(' '),
            _ => {}
        }
    }
    squeezed
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn white_space_is_tidied() {
        assert_eq!(trim("\n  a  \n b\t\n\n"), "a\n b");
        assert_eq!(squeeze("a \t b\u{a0}\u{3000}c\n  d"), "a b c\n d");
    }
}
