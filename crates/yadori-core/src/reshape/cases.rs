//! Upper, lower, title and sentence case, by the full mappings of the Unicode Standard (section 5.18): `ß` becomes
//! `SS`, a final sigma is kept apart, and Turkic languages have their dotted and dotless i.

use unicode_segmentation::UnicodeSegmentation;

/// The language whose rules of case hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tongue {
    /// All but those below.
    Any,
    /// Turkish and Azerbaijani.
    Turkic,
}

pub fn upper(text: &str, tongue: Tongue) -> String {
    match tongue {
        Tongue::Any => text.to_uppercase(),
        Tongue::Turkic => text.replace('i', "İ").to_uppercase(),
    }
}

pub fn lower(text: &str, tongue: Tongue) -> String {
    match tongue {
        Tongue::Any => text.to_lowercase(),
        Tongue::Turkic => text.replace("I\u{307}", "i").replace('İ', "i").replace('I', "ı").to_lowercase(),
    }
}

pub fn title(text: &str, tongue: Tongue) -> String {
    text.split_word_bounds().map(|word| capitalised(word, tongue)).collect()
}

pub fn sentence(text: &str, tongue: Tongue) -> String {
    // Where sentences begin must not depend on how they are written now.
    let shape: String = text.chars().map(|c| if c.is_alphabetic() { 'X' } else { c }).collect();
    let mut rest = text.chars();
    let mut result = String::with_capacity(text.len());
    for shape in shape.split_sentence_bounds() {
        let sentence: String = rest.by_ref().take(shape.chars().count()).collect();
        let sentence = lower(&sentence, tongue);
        let start = sentence.find(char::is_alphabetic).unwrap_or(sentence.len());
        // A number or a symbol first: then the letters are not the beginning.
        if sentence[..start].chars().any(char::is_alphanumeric) {
            result.push_str(&sentence);
        } else {
            result.push_str(&sentence[..start]);
            result.push_str(&initial(&sentence[start..], tongue));
        }
    }
    result
}

fn capitalised(word: &str, tongue: Tongue) -> String {
    match word.chars().next() {
        Some(first) if first.is_alphabetic() => initial(&lower(word, tongue), tongue),
        _ => lower(word, tongue),
    }
}

/// A word in small letters with its first letter in title case.
fn initial(word: &str, tongue: Tongue) -> String {
    let Some(first) = word.chars().next() else { return String::new() };
    let rest = &word[first.len_utf8()..];
    // Letters that are two letters have a form of their own with only the first one large.
    let titled = match first {
        'ǆ' | 'ǅ' | 'Ǆ' => "ǅ".to_owned(),
        'ǉ' | 'ǈ' | 'Ǉ' => "ǈ".to_owned(),
        'ǌ' | 'ǋ' | 'Ǌ' => "ǋ".to_owned(),
        'ǳ' | 'ǲ' | 'Ǳ' => "ǲ".to_owned(),
        'i' if tongue == Tongue::Turkic => "İ".to_owned(),
        // Georgian has capitals only for whole words.
        'ა'..='ჿ' => first.to_string(),
        other => {
            let mut upper = other.to_uppercase();
            let head = upper.next().map(String::from).unwrap_or_default();
            // `ß` becomes `Ss`.
            head + &upper.collect::<String>().to_lowercase()
        }
    };
    titled + rest
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn letters_change_as_their_languages_want() {
        let any = Tongue::Any;
        assert_eq!(upper("Straße ﬁn", any), "STRASSE FIN");
        assert_eq!(lower("ΟΔΟΣ ΣΟΦΟΣ", any), "οδος σοφος");
        assert_eq!(upper("istanbul ılık", Tongue::Turkic), "İSTANBUL ILIK");
        assert_eq!(lower("İSTANBUL ILIK I\u{307}", Tongue::Turkic), "istanbul ılık i");
        assert_eq!(title("istanbul", Tongue::Turkic), "İstanbul");
        assert_eq!(upper("cafe\u{301}", any), "CAFE\u{301}");
    }

    #[test]
    fn words_and_sentences_begin_with_capitals() {
        let any = Tongue::Any;
        assert_eq!(title("don't STOP the o’clock 3rd ß-test ǆep", any), "Don't Stop The O’clock 3rd Ss-Test ǅep");
        assert_eq!(
            sentence("LOAD-IN AT 14:30. bring gel 201! ok? yes", any),
            "Load-in at 14:30. Bring gel 201! Ok? Yes"
        );
        assert_eq!(sentence("“quoted.” (aside) x", any), "“Quoted.” (Aside) x");
        assert_eq!(title("", any), "");
    }
}
