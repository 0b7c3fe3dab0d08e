use super::{print_json, say};
use crate::Context;
use crate::failure::Failure;
use crate::terminal::moment;
use clap::Args;
use yadori_api::{Pause as Asked, Status};

/// Stop keeping copies, for a while or until you resume
#[derive(Args)]
pub struct Pause {
    /// For how long: 30s, 15m, 2h or 1d
    #[arg(long = "for", value_name = "TIME", value_parser = seconds)]
    length: Option<u64>,
}

impl Pause {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let status: Status = context.service()?.post("/pause", &Asked { seconds: self.length })?;
        if context.json {
            return print_json(&status.capture);
        }
        say(&match status.capture.until {
            Some(until) => format!("Paused until {}. Resume earlier with: yadori resume", moment(until)),
            None => "Paused; nothing is kept until you resume: yadori resume".into(),
        })
    }
}

pub(super) fn seconds(text: &str) -> Result<u64, String> {
    let refuse = || format!("“{text}” isn't a length of time; try 30s, 15m, 2h or 1d");
    let (number, unit) = text.split_at(text.find(|c: char| !c.is_ascii_digit()).ok_or_else(refuse)?);
    let factor: u64 = match unit {
        "s" => 1,
        "m" => 60,
        "h" => 3_600,
        "d" => 86_400,
        _ => return Err(refuse()),
    };
    number
        .parse::<u64>()
        .ok()
        .and_then(|number| number.checked_mul(factor))
        .filter(|seconds| *seconds > 0)
        .ok_or_else(refuse)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lengths_have_a_number_and_a_unit() {
        assert_eq!(seconds("15m"), Ok(900));
        for nonsense in ["15", "m", "0s", "-1m", "1y", "99999999999999999999d"] {
            assert!(seconds(nonsense).is_err(), "{nonsense}");
        }
    }
}
