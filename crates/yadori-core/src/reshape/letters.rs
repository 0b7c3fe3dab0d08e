//! Single letters and signs.

use unicode_normalization::UnicodeNormalization;

/// Letters without their accents: `Čáslav` as `Caslav`. Letters that only look so, and those of scripts in which
/// marks make other letters (`й`, `が`), stay.
pub fn unaccent(text: &str) -> String {
    let mut result = String::with_capacity(text.len());
    let mut latin = false;
    for c in text.nfd() {
        if matches!(c, '\u{300}'..='\u{36f}') {
            if !latin {
                result.push(c);
            }
            continue;
        }
        latin = c.is_ascii() || matches!(c, '\u{c0}'..='\u{24f}' | 'Α'..='ω');
        result.push(match c {
            'đ' => 'd',
            'Đ' => 'D',
            'ħ' => 'h',
            'Ħ' => 'H',
            'ı' => 'i',
            'ł' => 'l',
            'Ł' => 'L',
            'ø' => 'o',
            'Ø' => 'O',
            other => other,
        });
    }
    result.nfc().collect()
}

/// Straight quotes for curly and angled ones.
pub fn straighten(text: &str) -> String {
    let straight = |c| match c {
        '“' | '”' | '„' | '‟' | '«' | '»' | '″' | '＂' => '"',
        '‘' | '’' | '‚' | '‛' | '‹' | '›' | '′' | '＇' | '`' | '´' => '\'',
        other => other,
    };
    text.chars().map(straight).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn accents_go_and_other_letters_stay() {
        assert_eq!(unaccent("Čáslav, Łódź, Øresund, e\u{301}té, Straße"), "Caslav, Lodz, Oresund, ete, Straße");
        assert_eq!(unaccent("Ёлка йод パン 한국 Ώρα"), "Ёлка йод パン 한국 Ωρα");
    }

    #[test]
    fn quotes_become_straight() {
        assert_eq!(straighten("“it’s” «so» ‚x‘"), "\"it's\" \"so\" 'x'");
    }
}
