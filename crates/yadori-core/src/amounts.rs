//! Numbers, sizes and lengths of time as people write them, read and written.

/// A minute, in milliseconds.
pub const MINUTE: u64 = 60_000;
/// An hour, in milliseconds.
pub const HOUR: u64 = 60 * MINUTE;
/// A day of 24 hours, in milliseconds.
pub const DAY: u64 = 24 * HOUR;

/// Forms of a length of time, for those who wrote another.
pub const SPANS: &str = "a number with s, m, h, d, w or y: 30s, 15m, 12h, 90d, 2w, 1y";
/// Forms of a size.
pub const SIZES: &str = "a number of bytes, or one with kB, MB, GB, KiB, MiB or GiB: 500000, 20 MB, 2 GiB";
/// Forms of a number.
pub const COUNTS: &str = "a number from 1 on: 500, 2000";

/// Milliseconds in a length of time: a number, and a unit.
pub fn span(text: &str) -> Option<u64> {
    let (number, unit) = parts(text)?;
    let factor = match unit.as_str() {
        "ms" => 1,
        "s" | "second" | "seconds" => 1000,
        "m" | "min" | "minute" | "minutes" => MINUTE,
        "h" | "hour" | "hours" => HOUR,
        "d" | "day" | "days" => DAY,
        "w" | "week" | "weeks" => 7 * DAY,
        "y" | "year" | "years" => 365 * DAY,
        _ => return None,
    };
    number.checked_mul(factor)
}

/// A number of bytes, with a decimal or binary unit.
pub fn bytes(text: &str) -> Option<u64> {
    let (number, unit) = parts(text)?;
    let factor: u64 = match unit.as_str() {
        "" | "b" | "byte" | "bytes" => 1,
        "k" | "kb" => 1_000,
        "kib" => 1 << 10,
        "m" | "mb" => 1_000_000,
        "mib" => 1 << 20,
        "g" | "gb" => 1_000_000_000,
        "gib" => 1 << 30,
        "t" | "tb" => 1_000_000_000_000,
        "tib" => 1 << 40,
        _ => return None,
    };
    number.checked_mul(factor)
}

/// A number, perhaps with commas or spaces between its thousands.
pub fn count(text: &str) -> Option<u64> {
    let (number, unit) = parts(text)?;
    unit.is_empty().then_some(number)
}

fn parts(text: &str) -> Option<(u64, String)> {
    let text = text.trim().to_ascii_lowercase();
    let end = text.find(|c: char| !(c.is_ascii_digit() || c == ',' || c == '_')).unwrap_or(text.len());
    let digits: String = text[..end].chars().filter(char::is_ascii_digit).collect();
    Some((digits.parse().ok()?, text[end..].trim().to_owned()))
}

/// A length of time in its largest whole unit: `90 days`, `10 minutes`.
pub fn span_in_words(millis: u64) -> String {
    let units =
        [(365 * DAY, "year"), (7 * DAY, "week"), (DAY, "day"), (HOUR, "hour"), (MINUTE, "minute"), (1000, "second")];
    // Weeks only up to a month or so; 90 days are 90 days.
    let fits = |(size, name): &(u64, &str)| millis.is_multiple_of(*size) && (*name != "week" || millis <= 8 * size);
    match units.into_iter().filter(|_| millis > 0).find(fits) {
        Some((size, name)) => counted(millis / size, name, &format!("{name}s")),
        None => counted(millis, "millisecond", "milliseconds"),
    }
}

/// About how long: in the largest unit of which there are at least two, without the rest.
pub fn about(millis: u64) -> String {
    let units = [DAY, HOUR, MINUTE, 1000];
    let unit = units.into_iter().find(|unit| millis >= 2 * unit - unit / 20).unwrap_or(1000);
    span_in_words((millis + unit / 2) / unit * unit)
}

/// A size in its largest whole unit, binary before decimal: `1 GiB`, `20 MB`, `500 bytes`.
pub fn bytes_in_words(bytes: u64) -> String {
    let units = [(1 << 40, "TiB"), (1 << 30, "GiB"), (1 << 20, "MiB"), (1_000_000_000, "GB"), (1_000_000, "MB")];
    let small = [(1 << 10, "KiB"), (1_000, "kB")];
    match units.into_iter().chain(small).find(|(size, _)| bytes > 0 && bytes.is_multiple_of(*size)) {
        Some((size, name)) => format!("{} {name}", grouped(bytes / size)),
        None => counted(bytes, "byte", "bytes"),
    }
}

/// About how many bytes, in decimal units (ISO/IEC 80000-13): `512 B`, `12.3 kB`.
pub fn about_bytes(bytes: u64) -> String {
    const UNITS: [&str; 4] = ["kB", "MB", "GB", "TB"];
    if bytes < 1000 {
        return format!("{bytes} B");
    }
    let mut value = bytes as f64 / 1000.0;
    let mut unit = 0;
    while value >= 999.95 && unit + 1 < UNITS.len() {
        value /= 1000.0;
        unit += 1;
    }
    format!("{value:.1} {}", UNITS[unit])
}

/// A number with its noun.
pub fn counted(number: u64, one: &str, several: &str) -> String {
    format!("{} {}", grouped(number), if number == 1 { one } else { several })
}

/// A number with commas between its thousands.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut grouped = String::with_capacity(digits.len() + digits.len() / 3);
    for (place, digit) in digits.chars().enumerate() {
        if place > 0 && (digits.len() - place).is_multiple_of(3) {
            grouped.push(',');
        }
        grouped.push(digit);
    }
    grouped
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_people_write_is_read() {
        assert_eq!(span("90d"), Some(90 * DAY));
        assert_eq!(span("15 minutes"), Some(15 * MINUTE));
        assert_eq!(span("500ms"), Some(500));
        assert_eq!(bytes("2 GiB"), Some(2 << 30));
        assert_eq!(bytes("20MB"), Some(20_000_000));
        assert_eq!(count("2,000"), Some(2000));
        for nonsense in ["", "soon", "-3d", "3 fortnights", "9999999999999999999y", "1.5h", "h"] {
            assert_eq!(span(nonsense), None, "{nonsense}");
        }
        assert_eq!((bytes("many"), count("5d"), count("")), (None, None, None));
    }

    #[test]
    fn and_written_so_that_people_can_read_it() {
        assert_eq!(span_in_words(90 * DAY), "90 days");
        assert_eq!(span_in_words(14 * DAY), "2 weeks");
        assert_eq!(span_in_words(10 * MINUTE), "10 minutes");
        assert_eq!(about(20 * MINUTE - 7), "20 minutes");
        assert_eq!(about(90 * MINUTE), "90 minutes");
        assert_eq!(about(3 * DAY + 5 * HOUR), "3 days");
        assert_eq!(about(2 * HOUR - 3000), "2 hours");
        assert_eq!(span_in_words(1500), "1,500 milliseconds");
        assert_eq!(bytes_in_words(1 << 30), "1 GiB");
        assert_eq!(bytes_in_words(20_000_000), "20 MB");
        assert_eq!(bytes_in_words(1), "1 byte");
        assert_eq!(counted(1_234_567, "clip", "clips"), "1,234,567 clips");
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_back(number in 0u64..1 << 50) {
            prop_assert_eq!(bytes(&bytes_in_words(number)), Some(number));
            if let Some(read) = span(&span_in_words(number)) {
                prop_assert_eq!(read, number);
            }
        }
    }
}
