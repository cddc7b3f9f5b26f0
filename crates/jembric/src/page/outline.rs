//! [`Outline`]: the plan of a page, made before any data is read: what it shows of each step, and
//! the figures of its sentences.

use super::{
    figures::Figure,
    sentence::{Known, Misplaced, Sentence},
};
use crate::{
    Shape,
    routine::{Planned, Show},
};

/// What a page shows of each step, by the place of the step.
#[derive(Debug)]
pub(crate) struct Outline {
    pub(super) blocks: Vec<Option<Block>>,
    figures: Vec<Needed>,
    /// Whether the step has a result for each of several grains.
    has_grains: Vec<bool>,
}

/// A figure that a sentence needs, and the place of the sentence: its step, its key, and the
/// placeholder in it.
#[derive(Clone, Debug)]
pub(crate) struct Needed {
    pub(super) figure: Figure,
    pub(crate) by: usize,
    pub(crate) key: &'static str,
    pub(crate) placeholder: String,
}

/// What a page shows of one step.
#[derive(Debug)]
pub(super) struct Block {
    /// The heading of a section that begins here.
    pub(super) heading: Option<Sentence>,
    pub(super) say: Option<Sentence>,
    pub(super) shows_picture: bool,
    pub(super) shows_table: bool,
}

impl Outline {
    /// Plans the page of some steps, whose results have these shapes as far as they are known.
    ///
    /// Errors: a placeholder is invalid; with the place of the step and the key of its text.
    pub(crate) fn plan(
        steps: &[Planned],
        shapes: &[Option<Shape>],
        has_as_of: bool,
    ) -> Result<Outline, (usize, &'static str, Misplaced)> {
        let names: Vec<Option<&str>> = steps.iter().map(|step| step.name.as_deref()).collect();
        // Without any heading, every step is a section.
        let all = steps.iter().all(|step| step.page.heading.is_none());
        let mut blocks = Vec::new();
        for (own, step) in steps.iter().enumerate() {
            let known = Known { own, names: &names, shapes, has_as_of };
            let sentence = |key: &'static str, text: &Option<String>| {
                let parsed = text.as_ref().map(|text| Sentence::parse(text, &known));
                parsed.transpose().map_err(|misplaced| (own, key, misplaced))
            };
            let heading = sentence("heading", &step.page.heading)?;
            let say = sentence("say", &step.page.say)?;
            if step.page.is_empty() && !all {
                blocks.push(None);
                continue;
            }
            // A step that only says something adds its sentence to the section before it.
            let only_says = !all && heading.is_none();
            let shows = |show: Show| match &step.page.show {
                Some(shown) => shown.contains(&show),
                None if only_says => false,
                None => show == Show::Table || step.operation.draws(),
            };
            blocks.push(Some(Block {
                heading: heading.or_else(|| all.then(|| Sentence::plain(step.title()))),
                say,
                shows_picture: shows(Show::Picture),
                shows_table: shows(Show::Table),
            }));
        }
        let mut figures: Vec<Needed> = Vec::new();
        for (by, block) in blocks.iter().enumerate() {
            let Some(block) = block else { continue };
            for (key, sentence) in [("heading", &block.heading), ("say", &block.say)] {
                for (figure, placeholder) in sentence.iter().flat_map(Sentence::figures) {
                    if !figures.iter().any(|needed| needed.figure == *figure) {
                        let placeholder = placeholder.to_owned();
                        figures.push(Needed { figure: figure.clone(), by, key, placeholder });
                    }
                }
            }
        }
        let has_grains = steps.iter().map(|step| !step.grains.is_empty()).collect();
        Ok(Outline { blocks, figures, has_grains })
    }

    /// Whether the page needs the whole result of the step.
    pub(crate) fn needs(&self, place: usize) -> bool {
        self.blocks[place].is_some()
            || self.has_grains[place]
            || self.figures.iter().any(|needed| needed.figure.step == place)
    }

    /// Whether the page has a picture of the step's result.
    pub(crate) fn shows_picture(&self, place: usize) -> bool {
        self.blocks[place].as_ref().is_some_and(|block| block.shows_picture)
    }

    /// The figures of a step's result that sentences contain.
    pub(super) fn figures_of(&self, place: usize) -> impl Iterator<Item = &Needed> {
        self.figures.iter().filter(move |needed| needed.figure.step == place)
    }
}
