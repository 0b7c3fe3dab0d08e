//! The time zone of this computer.

use jiff::tz::TimeZone;
use std::sync::OnceLock;

/// The zone that the person lives by. It is read from its file: to look for it among all zones, as the library does, takes longer
/// than most commands.
pub fn here() -> TimeZone {
    static HERE: OnceLock<TimeZone> = OnceLock::new();
    HERE.get_or_init(|| of_its_file().unwrap_or_else(TimeZone::system)).clone()
}

/// Its name, by which the service knows it too.
pub fn name() -> Option<String> {
    here().iana_name().map(str::to_owned)
}

/// What `/etc/localtime` points to (localtime(5)), unless the person wants another. None if it is no link to a zone of the usual
/// place.
fn of_its_file() -> Option<TimeZone> {
    if std::env::var_os("TZ").is_some() {
        return None;
    }
    let path = std::fs::canonicalize("/etc/localtime").ok()?;
    let name = path.strip_prefix("/usr/share/zoneinfo").ok()?.to_str()?;
    if name.starts_with("posix/") || name.starts_with("right/") {
        return None;
    }
    TimeZone::tzif(name, &std::fs::read(&path).ok()?).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::Timestamp;

    #[test]
    fn the_zone_is_the_one_that_the_library_finds() {
        let (ours, theirs) = (here(), TimeZone::system());
        for second in [0, 1_795_000_000, 1_810_000_000] {
            let at = Timestamp::from_second(second).unwrap();
            assert_eq!(ours.to_datetime(at), theirs.to_datetime(at));
        }
        if of_its_file().is_some() {
            // Some zones have several names; the file has one of them.
            let name = name().unwrap();
            assert!(TimeZone::get(&name).is_ok(), "{name}");
        }
    }
}
