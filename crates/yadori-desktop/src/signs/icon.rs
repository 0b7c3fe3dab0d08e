//! The icon: a sheet of paper with lines, under a roof. Drawn, so that it is there without any theme installed.

use super::{Sign, Standing};
use ksni::Icon;

/// The sizes that panels want, in pixels.
const SIZES: [i32; 4] = [16, 22, 32, 48];

/// Colours, as alpha, red, green and blue.
type Colour = [u8; 4];
const NOTHING: Colour = [0, 0, 0, 0];
const PAPER: Colour = [255, 251, 248, 240];
const INK: Colour = [255, 47, 75, 124];
const FAINT: Colour = [255, 130, 125, 112];
const WARNING: Colour = [255, 200, 60, 40];
const TRAY: Colour = [255, 222, 168, 40];

/// What the icon looks like.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Look {
    pub standing: Standing,
    pub tray_open: bool,
    /// Paper and ink change places.
    pub lit: bool,
}

impl Look {
    /// The one that tells this.
    pub fn of(sign: &Sign, lit: bool) -> Self {
        Self { standing: sign.standing, tray_open: sign.tray_open, lit }
    }
}

/// The colour at a point of the icon, with both coordinates from 0 to 1.
fn at(x: f64, y: f64, Look { standing, tray_open, lit }: Look) -> Colour {
    let ink = if standing == Standing::Keeping { INK } else { FAINT };
    let (ink, paper) = if lit { (TRAY, INK) } else { (ink, PAPER) };
    let within = |left: f64, right: f64, top: f64, bottom: f64| x >= left && x < right && y >= top && y < bottom;
    if tray_open && within(0.08, 0.92, 0.86, 1.0) {
        return TRAY;
    }
    match standing {
        Standing::Trouble if within(0.62, 0.98, 0.48, 1.0) => {
            let mark = within(0.75, 0.85, 0.54, 0.78) || within(0.75, 0.85, 0.84, 0.94);
            return if mark { PAPER } else { WARNING };
        }
        Standing::Paused if within(0.60, 1.0, 0.50, 0.98) => {
            let bar = within(0.64, 0.76, 0.54, 0.94) || within(0.84, 0.96, 0.54, 0.94);
            return if bar { FAINT } else { NOTHING };
        }
        _ => {}
    }
    // The roof: wider further down.
    if within(0.0, 1.0, 0.04, 0.32) {
        let half = (y - 0.04) / 0.28 * 0.48;
        return if (x - 0.5).abs() <= half { ink } else { NOTHING };
    }
    if within(0.12, 0.88, 0.32, 0.84) {
        let edge = !within(0.18, 0.82, 0.32, 0.78);
        let line = within(0.27, 0.73, 0.42, 0.48) || within(0.27, 0.73, 0.54, 0.60) || within(0.27, 0.55, 0.66, 0.72);
        return if edge || line { ink } else { paper };
    }
    NOTHING
}

/// The icon in all sizes.
pub(super) fn drawn(look: Look) -> Vec<Icon> {
    let draw = |size: i32| {
        let place = |pixel: i32| (f64::from(pixel) + 0.5) / f64::from(size);
        let pixels = (0..size).flat_map(|y| (0..size).map(move |x| (x, y)));
        let data = pixels.flat_map(|(x, y)| at(place(x), place(y), look)).collect();
        Icon { width: size, height: size, data }
    };
    SIZES.into_iter().map(draw).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_state_looks_different_in_every_size() {
        let all = [
            drawn(Look::default()),
            drawn(Look { standing: Standing::Paused, ..Look::default() }),
            drawn(Look { standing: Standing::Trouble, ..Look::default() }),
            drawn(Look { tray_open: true, ..Look::default() }),
            drawn(Look { lit: true, ..Look::default() }),
        ];
        for (size, pixels) in SIZES.iter().enumerate() {
            for state in &all {
                assert_eq!(state[size].data.len() as i32, pixels * pixels * 4);
            }
            for (one, other) in [(0, 1), (0, 2), (0, 3), (0, 4), (1, 2)] {
                assert_ne!(all[one][size].data, all[other][size].data);
            }
        }
    }
}
