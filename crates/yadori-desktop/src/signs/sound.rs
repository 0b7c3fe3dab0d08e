//! A short sound, made here, and played by whichever player the person's system has.

use std::fs;
use std::io;
use std::path::PathBuf;
use std::process::Stdio;
use std::time::Duration;
use tokio::process::Command;
use tokio::task::JoinHandle;
use yadori_core::feedback::PLAYERS;

/// Samples in a second.
const RATE: u32 = 22_050;

/// How long it sounds, in milliseconds.
const LENGTH: u32 = 90;

/// Its pitch, in hertz, and one that sounds along.
const PITCHES: [(f64, f64); 2] = [(1174.7, 0.7), (2349.3, 0.3)];

/// Its loudness; 1 is as loud as can be.
const LOUDNESS: f64 = 0.25;

/// How long a player may take: one that waits for a device that never comes is ended.
const PATIENCE: Duration = Duration::from_secs(2);

/// A short sound that can be played.
pub struct Sound {
    file: PathBuf,
    /// Waits for the player that played it last.
    playing: Option<JoinHandle<()>>,
}

impl Sound {
    /// A sound that lies in this file, written when it is first played.
    pub fn new(file: PathBuf) -> Self {
        Self { file, playing: None }
    }

    /// Plays it, unless it is being played.
    ///
    /// # Errors
    /// When the file cannot be written, or no player is installed.
    pub fn play(&mut self) -> io::Result<()> {
        if self.playing.as_ref().is_some_and(|playing| !playing.is_finished()) {
            return Ok(());
        }
        if !self.file.exists() {
            fs::write(&self.file, wave())?;
        }
        for player in PLAYERS {
            let mut command = Command::new(player);
            command.arg(&self.file).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).kill_on_drop(true);
            match command.spawn() {
                Ok(mut playing) => {
                    let ended = async move { drop(tokio::time::timeout(PATIENCE, playing.wait()).await) };
                    self.playing = Some(tokio::spawn(ended));
                    return Ok(());
                }
                Err(error) if error.kind() == io::ErrorKind::NotFound => {}
                Err(error) => return Err(error),
            }
        }
        Err(io::Error::new(io::ErrorKind::NotFound, format!("none of {} is installed", PLAYERS.join(", "))))
    }
}

impl Drop for Sound {
    fn drop(&mut self) {
        if let Some(playing) = &self.playing {
            playing.abort();
        }
        let _ = fs::remove_file(&self.file);
    }
}

/// The sound as a file: RIFF WAVE, PCM, one channel, 16 bits.
fn wave() -> Vec<u8> {
    let count = RATE * LENGTH / 1000;
    let bytes = count * 2;
    let mut file = Vec::with_capacity(44 + bytes as usize);
    file.extend(b"RIFF");
    file.extend((36 + bytes).to_le_bytes());
    file.extend(b"WAVEfmt ");
    file.extend(16u32.to_le_bytes());
    file.extend([1u16, 1].into_iter().flat_map(u16::to_le_bytes));
    file.extend([RATE, RATE * 2].into_iter().flat_map(u32::to_le_bytes));
    file.extend([2u16, 16].into_iter().flat_map(u16::to_le_bytes));
    file.extend(b"data");
    file.extend(bytes.to_le_bytes());
    for sample in 0..count {
        let time = f64::from(sample) / f64::from(RATE);
        let share = f64::from(sample) / f64::from(count);
        // It begins within the first hundredth, and dies away.
        let envelope = (share * 100.0).min(1.0) * (1.0 - share).powi(3);
        let tone: f64 = PITCHES.iter().map(|(pitch, part)| part * (time * pitch * std::f64::consts::TAU).sin()).sum();
        #[allow(clippy::cast_possible_truncation)]
        let value = (tone * envelope * LOUDNESS * f64::from(i16::MAX)) as i16;
        file.extend(value.to_le_bytes());
    }
    file
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sound_is_a_wave_file_that_begins_and_ends_in_silence() {
        let file = wave();
        let word = |at: usize| u32::from_le_bytes(file[at..at + 4].try_into().unwrap());
        assert_eq!((&file[..4], &file[8..12], &file[36..40]), (&b"RIFF"[..], &b"WAVE"[..], &b"data"[..]));
        assert_eq!((word(4) as usize, word(40) as usize, word(24)), (file.len() - 8, file.len() - 44, RATE));
        let samples: Vec<i16> = file[44..].chunks(2).map(|two| i16::from_le_bytes([two[0], two[1]])).collect();
        let loudest = samples.iter().map(|sample| sample.unsigned_abs()).max().unwrap();
        assert!((3000..=8192).contains(&loudest), "{loudest}");
        assert!(samples[0].abs() < 50 && samples.last().unwrap().abs() < 50);
    }
}
