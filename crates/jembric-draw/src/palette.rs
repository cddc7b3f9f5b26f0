//! The colours of pictures, computed in OKLCH, a space in which equal steps look equal.
//!
//! The colours of the series are chosen one after the other from all colours of the screen that
//! have enough contrast to the paper: each is the one farthest from those before it, for normal
//! vision and for three kinds of colour-vision deficiency. The colours for dark paper have the same
//! hues and are lighter. Deficiencies are simulated with the matrices of Machado, Oliveira and
//! Fernandes (2009), "A Physiologically-based Model for Simulation of Color Vision Deficiency".

use palette::{
    IntoColor, LinSrgb, Oklab, Oklch, Srgb, color_difference::Wcag21RelativeContrast,
    convert::FromColorUnclamped,
};
use std::{fmt, sync::LazyLock};

/// The number of series with a colour of their own.
pub(crate) const SERIES: usize = 12;

/// A colour of the screen.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Rgb(Srgb<u8>);

impl fmt::Display for Rgb {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Srgb { red, green, blue, .. } = self.0;
        write!(f, "#{red:02x}{green:02x}{blue:02x}")
    }
}

impl Rgb {
    fn from_lch(lightness: f32, chroma: f32, hue: f32) -> Rgb {
        let color: Srgb = Oklch::new(lightness, chroma, hue).into_color();
        Rgb(color.into_format())
    }

    fn linear(self) -> LinSrgb {
        self.0.into_format::<f32>().into_linear()
    }

    /// The contrast of two colours by WCAG 2.1, from 1 to 21.
    fn contrast(self, other: Rgb) -> f32 {
        self.0.into_format::<f32>().relative_contrast(other.0.into_format())
    }
}

/// The colours for one paper.
#[derive(Clone, Debug)]
pub(crate) struct Colours {
    pub(crate) paper: Rgb,
    /// Titles.
    pub(crate) ink: Rgb,
    /// Labels and the foot line.
    pub(crate) muted: Rgb,
    /// Lines of the grid, and days without a value.
    pub(crate) grid: Rgb,
    /// Axes and reference lines.
    pub(crate) axis: Rgb,
    pub(crate) series: [Rgb; SERIES],
    /// Shades of a calendar, from the least to the greatest.
    pub(crate) shades: [Rgb; SHADES],
}

/// The number of shades of a calendar.
pub(crate) const SHADES: usize = 7;

/// The hue of neutral colours and shades: that of deep water.
const WATER: f32 = 235.0;

pub(crate) static LIGHT: LazyLock<Colours> = LazyLock::new(|| Colours {
    paper: paper(false),
    ink: Rgb::from_lch(0.27, 0.03, WATER),
    muted: Rgb::from_lch(0.47, 0.025, WATER),
    grid: Rgb::from_lch(0.92, 0.008, WATER),
    axis: Rgb::from_lch(0.66, 0.02, WATER),
    series: chosen().map(|color| Rgb::from_lch(color.l, color.chroma, color.hue.into_degrees())),
    shades: std::array::from_fn(|n| shade(n, 0.93, 0.36)),
});

pub(crate) static DARK: LazyLock<Colours> = LazyLock::new(|| Colours {
    paper: paper(true),
    ink: Rgb::from_lch(0.94, 0.01, WATER),
    muted: Rgb::from_lch(0.74, 0.02, WATER),
    grid: Rgb::from_lch(0.29, 0.02, WATER),
    axis: Rgb::from_lch(0.55, 0.02, WATER),
    series: chosen().map(dark),
    shades: std::array::from_fn(|n| shade(n, 0.31, 0.90)),
});

/// A shade between two lightnesses. The shades in the middle are the most colourful ones.
fn shade(n: usize, from: f32, to: f32) -> Rgb {
    let share = n as f32 / (SHADES - 1) as f32;
    let lightness = from + share * (to - from);
    Rgb::from_lch(
        lightness,
        0.04 + 0.09 * (1.0 - (2.0 * share - 1.0).powi(2)),
        WATER - 25.0 * share,
    )
}

/// The colour on dark paper for one on light paper: the same hue, but lighter.
fn dark(color: Oklch) -> Rgb {
    let lightness = 0.60 + (color.l - LEAST) / (MOST - LEAST) * 0.32;
    Rgb::from_lch(lightness, color.chroma.min(0.15), color.hue.into_degrees())
}

/// The range of lightness on light paper: lighter colours lack contrast, darker ones look black.
const LEAST: f32 = 0.36;
const MOST: f32 = 0.66;

/// The colours of the series on light paper.
fn chosen() -> [Oklch; SERIES] {
    let lightness = (0..=6).map(|n| LEAST + n as f32 * (MOST - LEAST) / 6.0);
    let candidates: Vec<Oklch> = lightness
        .flat_map(|lightness| {
            (0..36).flat_map(move |hue| {
                [0.08, 0.12, 0.16].map(|chroma| Oklch::new(lightness, chroma, hue as f32 * 10.0))
            })
        })
        .filter(|color| is_on_screen(*color) && has_contrast(*color))
        .collect();
    let mut chosen = vec![Oklch::new(0.46, 0.12, WATER + 15.0)];
    // As it is seen on both papers with every vision.
    let seen = |color: &Oklch| -> Vec<Oklab> {
        let on_light = Rgb::from_lch(color.l, color.chroma, color.hue.into_degrees());
        let papers = [on_light, dark(*color)];
        papers.into_iter().flat_map(|rgb| VISIONS.map(|vision| seen_by(vision, rgb))).collect()
    };
    let candidates: Vec<(Vec<Oklab>, Oklch)> =
        candidates.into_iter().map(|color| (seen(&color), color)).collect();
    let mut nearest: Vec<f32> = vec![f32::INFINITY; candidates.len()];
    while chosen.len() < SERIES {
        let last = seen(&chosen[chosen.len() - 1]);
        for ((seen, _), nearest) in candidates.iter().zip(&mut nearest) {
            let apart = seen.iter().zip(&last).map(|(one, other)| distance(*one, *other));
            *nearest = apart.fold(*nearest, f32::min);
        }
        let best = nearest.iter().enumerate().max_by(|one, other| one.1.total_cmp(other.1));
        chosen.extend(best.map(|(place, _)| candidates[place].1));
    }
    std::array::from_fn(|n| chosen[n])
}

fn is_on_screen(color: Oklch) -> bool {
    let rgb = Srgb::from_color_unclamped(color);
    [rgb.red, rgb.green, rgb.blue].iter().all(|part| (0.0..=1.0).contains(part))
}

/// Whether a colour has enough contrast to light paper, and its counterpart to dark paper.
fn has_contrast(color: Oklch) -> bool {
    let Oklch { l, chroma, hue, .. } = color;
    let on_light = Rgb::from_lch(l, chroma, hue.into_degrees());
    on_light.contrast(paper(false)) > 3.05 && dark(color).contrast(paper(true)) > 3.05
}

fn paper(is_dark: bool) -> Rgb {
    if is_dark { Rgb::from_lch(0.20, 0.02, WATER) } else { Rgb::from_lch(0.99, 0.003, WATER) }
}

fn distance(one: Oklab, other: Oklab) -> f32 {
    let (l, a, b) = (one.l - other.l, one.a - other.a, one.b - other.b);
    (l * l + a * a + b * b).sqrt()
}

/// Three weights for each of red, green and blue.
type Matrix = [[f32; 3]; 3];

/// Normal vision, protanopia, deuteranopia and tritanopia.
const VISIONS: [Matrix; 4] = [
    [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]],
    [
        [0.152_286, 1.052_583, -0.204_868],
        [0.114_503, 0.786_281, 0.099_216],
        [-0.003_882, -0.048_116, 1.051_998],
    ],
    [
        [0.367_322, 0.860_646, -0.227_968],
        [0.280_085, 0.672_501, 0.047_413],
        [-0.011_820, 0.042_940, 0.968_881],
    ],
    [
        [1.255_528, -0.076_749, -0.178_779],
        [-0.078_411, 0.930_809, 0.147_602],
        [0.004_733, 0.691_367, 0.303_900],
    ],
];

/// A colour as it is seen.
fn seen_by(vision: Matrix, color: Rgb) -> Oklab {
    let LinSrgb { red, green, blue, .. } = color.linear();
    let part = |weights: [f32; 3]| {
        (weights[0] * red + weights[1] * green + weights[2] * blue).clamp(0.0, 1.0)
    };
    let [red, green, blue] = vision.map(part);
    Oklab::from_color_unclamped(LinSrgb::new(red, green, blue))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::light(&LIGHT)]
    #[case::dark(&DARK)]
    fn colours_have_contrast_and_differ_for_every_vision(#[case] colours: &Colours) {
        let Colours { paper, ink, muted, series, shades, .. } = colours;
        assert!(ink.contrast(*paper) >= 7.0, "ink {}", ink.contrast(*paper));
        assert!(muted.contrast(*paper) >= 4.5, "muted {}", muted.contrast(*paper));
        for (n, color) in series.iter().enumerate() {
            assert!(color.contrast(*paper) >= 3.0, "series {n}: {}", color.contrast(*paper));
            for (m, other) in series.iter().enumerate().take(n) {
                for (kind, vision) in VISIONS.into_iter().enumerate() {
                    let apart = distance(seen_by(vision, *color), seen_by(vision, *other));
                    // 0.02 is a just noticeable difference; dashes and markers tell the rest.
                    assert!(apart >= 0.035, "{n} and {m}, vision {kind}: {apart}");
                }
            }
        }
        // The first six, which most pictures have, are farther apart.
        for (n, color) in series.iter().enumerate().take(6) {
            for other in series.iter().take(n) {
                for vision in VISIONS {
                    assert!(distance(seen_by(vision, *color), seen_by(vision, *other)) >= 0.07);
                }
            }
        }
        for pair in shades.windows(2) {
            let apart = distance(seen_by(VISIONS[0], pair[0]), seen_by(VISIONS[0], pair[1]));
            assert!(apart >= 0.05, "shades {apart}");
        }
    }
}
