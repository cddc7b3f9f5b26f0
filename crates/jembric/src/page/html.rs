//! The page as HTML.

use super::{
    MOST_ROWS, accounts,
    collected::{Collected, StepOnPage, View},
    figures::prose_of_day,
    marked::marked,
    marks::Marks,
    outline::{Block, Outline},
    sources::{Source, Sources, link},
    tables::Shown,
    texts,
};
use crate::{
    calendar::Day,
    compared::StepChanges,
    databases::name::is_database_output,
    draw::{page_style, pictures_on_page},
    grouped, visible,
};
use base64::{Engine, prelude::BASE64_STANDARD};
use maud::{DOCTYPE, Markup, PreEscaped, html};
use sha2::{Digest, Sha256};
use std::path::Path;

const STYLE: &str = include_str!("page.css");
const SCRIPT: &str = include_str!("page.js");

/// Everything that a page is made of.
pub(crate) struct Page<'a> {
    pub(crate) title: Option<&'a str>,
    pub(crate) as_of: Option<Day>,
    pub(crate) zone: &'a str,
    pub(crate) outline: &'a Outline,
    pub(crate) collected: &'a Collected,
    pub(crate) sources: &'a Sources,
    /// The text of the routine.
    pub(crate) routine: &'a str,
    /// The steps that each step depends on, by place.
    pub(crate) behind: &'a [Vec<usize>],
    /// The page's file, and the directory of the files that the steps write, if they are written.
    pub(crate) file: &'a Path,
    pub(crate) directory: Option<&'a Path>,
    /// The earlier date that results are compared with, and what changed.
    pub(crate) since: Option<Day>,
    pub(crate) changes: &'a [StepChanges],
    /// The places of results that could not be compared, and why.
    pub(crate) not_compared: &'a [(usize, String)],
}

/// A section: what is shown of its steps, and the steps whose ledgers belong to it.
struct Section<'a> {
    heading: String,
    blocks: Vec<(&'a Block, &'a StepOnPage)>,
    steps: Vec<&'a StepOnPage>,
}

impl Page<'_> {
    /// The whole page.
    pub(crate) fn html(&self) -> String {
        let date = self.as_of.map(prose_of_day);
        let title = visible(self.title.unwrap_or(texts::UNTITLED));
        let title = date
            .as_ref()
            .map_or_else(|| title.clone().into_owned(), |date| title.replace("{as-of}", date));
        let title_has_date = self.title.is_some_and(|title| title.contains("{as-of}"));
        let style = format!("{STYLE}{}", page_style());
        let policy = format!(
            "default-src 'none'; style-src '{}'; script-src '{}'; base-uri 'none'; form-action \
                'none'",
            hash(&style),
            hash(SCRIPT)
        );
        let (intro, sections, rest) = self.sections();
        html! {
            (DOCTYPE)
            html lang=(texts::LANGUAGE) {
                head {
                    meta charset="utf-8";
                    meta http-equiv="Content-Security-Policy" content=(policy);
                    meta name="viewport" content="width=device-width, initial-scale=1";
                    meta name="color-scheme" content="light dark";
                    meta name="generator" content=(PROGRAM);
                    title { (title) }
                    style { (PreEscaped(&style)) }
                }
                body data-search=(texts::SEARCH) data-found=(texts::FOUND) data-page=(texts::PAGE)
                    data-previous=(texts::PREVIOUS) data-next=(texts::NEXT) {
                    a class="skip" href="#report" { (texts::SKIP) }
                    header {
                        h1 { (title) }
                        @if let Some(date) = date.as_ref().filter(|_| !title_has_date) {
                            p class="as-of" { (texts::AS_OF) " " (date) }
                        }
                    }
                    (self.contents(&sections))
                    main id="report" tabindex="-1" {
                        @for (block, step) in &intro {
                            (self.block(block, step))
                        }
                        (self.attention(&sections))
                        @for (n, section) in sections.iter().enumerate() {
                            section aria-labelledby=(section_id(n)) {
                                h2 id=(section_id(n)) { (section.heading) }
                                @for (block, step) in &section.blocks {
                                    (self.block(block, step))
                                }
                                (account(&section.steps, texts::ACCOUNT))
                            }
                        }
                        (self.origin(&rest))
                    }
                    script { (PreEscaped(SCRIPT)) }
                }
            }
        }
        .into_string()
    }

    fn sentence(&self, sentence: &super::Sentence) -> String {
        let date = self.as_of.map(prose_of_day);
        visible(&sentence.text(date.as_deref(), &self.collected.figures)).into_owned()
    }

    /// What stands above the first heading, the sections, and the steps that belong to none.
    fn sections(&self) -> (Vec<(&Block, &StepOnPage)>, Vec<Section<'_>>, Vec<&StepOnPage>) {
        let blocks = &self.outline.blocks;
        let (mut intro, mut sections): (Vec<_>, Vec<Section<'_>>) = (Vec::new(), Vec::new());
        // Each ledger stands in the first section whose steps depend on it. A step that begins or
        // continues a section has its ledger there.
        let first = blocks
            .iter()
            .position(|block| block.as_ref().is_some_and(|block| block.heading.is_some()));
        let is_free = |place: usize| blocks[place].is_none() || Some(place) < first;
        let mut left: Vec<&StepOnPage> = self.collected.steps.iter().collect();
        for step in &self.collected.steps {
            let Some(block) = &blocks[step.place] else { continue };
            if let Some(heading) = &block.heading {
                let heading = self.sentence(heading);
                sections.push(Section { heading, blocks: Vec::new(), steps: Vec::new() });
            }
            let Some(section) = sections.last_mut() else {
                intro.push((block, step));
                continue;
            };
            section.blocks.push((block, step));
            let own = |other: &&StepOnPage| {
                let place = other.place;
                place == step.place || is_free(place) && self.behind[step.place].contains(&place)
            };
            section.steps.extend(left.extract_if(.., |other| own(&&**other)));
        }
        sections.iter_mut().for_each(|section| section.steps.sort_by_key(|step| step.place));
        (intro, sections, left)
    }

    fn contents(&self, sections: &[Section<'_>]) -> Markup {
        html! {
            nav aria-labelledby="contents" {
                h2 id="contents" { (texts::CONTENTS) }
                ol {
                    @for (n, section) in sections.iter().enumerate() {
                        li { a href={ "#" (section_id(n)) } { (section.heading) } }
                    }
                    li { a href="#sources" { (texts::SOURCES) } }
                }
            }
        }
    }

    /// The warnings and the rows set aside, with links to the ledgers.
    fn attention(&self, sections: &[Section<'_>]) -> Markup {
        let section_of = |step: &StepOnPage| {
            let has = |section: &&Section<'_>| {
                section.steps.iter().any(|other| other.place == step.place)
            };
            sections.iter().find(has).map_or(texts::OTHER_STEPS, |section| &section.heading)
        };
        let mut items: Vec<(String, &str, Option<&str>, String)> = Vec::new();
        for step in &self.collected.steps {
            let mut warnings = accounts::warnings(&step.ledger);
            // A warning may be about one grain only.
            for more in step.views.iter().flat_map(|view| accounts::warnings(&view.ledger)) {
                if !warnings.contains(&more) {
                    warnings.push(more);
                }
            }
            let link = format!("#{}", accounts::id(step.place));
            let section = section_of(step);
            let not_compared = self.not_compared.iter().filter(|(place, _)| *place == step.place);
            warnings.extend(not_compared.map(|(_, why)| why.clone()));
            for warning in warnings {
                items.push((link.clone(), section, Some(texts::WARNING), warning));
            }
            if let Some(rows) = accounts::set_aside(&step.ledger) {
                items.push((link, section, None, rows));
            }
        }
        html! {
            section class="attention" aria-labelledby="attention" {
                h2 id="attention" { (texts::ATTENTION) }
                @if items.is_empty() {
                    p { (texts::NO_ATTENTION) }
                } @else {
                    ul {
                        @for (link, section, warning, text) in &items {
                            li {
                                a href=(link) { (section) } ": "
                                @if let Some(warning) = warning { strong { (warning) } ": " }
                                (marked(text))
                            }
                        }
                    }
                }
            }
        }
    }

    /// What is shown of one step.
    fn block(&self, block: &Block, step: &StepOnPage) -> Markup {
        let grains: Vec<&str> =
            step.views.iter().filter_map(|view| view.grain.as_deref()).collect();
        html! {
            @if let Some(say) = &block.say {
                p class="say" { (self.sentence(say)) }
            }
            @if block.shows_picture || block.shows_table {
                @if grains.len() > 1 {
                    div class="grains" role="group" aria-label=(texts::GRAIN) hidden {
                        @for grain in &grains {
                            button type="button" aria-pressed="false" data-grain=(grain) {
                                (texts::button(grain))
                            }
                        }
                    }
                }
                @for (n, view) in step.views.iter().enumerate() {
                    @if let Some(grain) = view.grain.as_ref().filter(|_| grains.len() > 1) {
                        div class="view" data-view=(grain) {
                            h3 { (texts::by(grain)) }
                            (self.view(block, step, view, n))
                        }
                    } @else {
                        (self.view(block, step, view, n))
                    }
                }
            }
        }
    }

    /// A picture and a table.
    fn view(&self, block: &Block, step: &StepOnPage, view: &View, number: usize) -> Markup {
        let caption = match &view.grain {
            Some(grain) => format!("{}, {}", step.ledger.step, texts::by(grain).to_lowercase()),
            None => step.ledger.step.clone(),
        };
        // The file has the main result.
        let written = if number == 0 { step.written.as_ref() } else { None };
        // A table of a database is no file that a browser could open.
        let written = written.filter(|name| !is_database_output(name));
        let url = written.zip(self.directory).and_then(|(name, directory)| {
            link(&directory.join(name), self.file).map(|url| (name.as_str(), url))
        });
        let since = self.since.map(prose_of_day);
        let changes = self.changes.iter().find(|changes| changes.place == step.place);
        // Rows of a result whose type cannot be compared have no marks.
        let marks = changes
            .filter(|_| number == 0)
            .and_then(|changes| Marks::new(&view.table, changes).ok());
        html! {
            @if let Some(picture) = view.picture.as_ref().filter(|_| block.shows_picture) {
                @let ids = format!("p{}-{number}-", step.place + 1);
                @for (class, svg) in pictures_on_page(picture, &ids) {
                    div class={ "drawn " (class) } { (PreEscaped(svg)) }
                }
            }
            @if block.shows_table {
                @if let (Some(marks), Some(since)) = (&marks, &since) {
                    p class="note" {
                        (texts::compared(since, marks.appeared, marks.changed, marks.gone.rows()))
                    }
                }
                (Shown {
                    table: &view.table,
                    rows: view.rows,
                    caption: &caption,
                    file: url.as_ref().map(|(name, url)| (*name, url.as_str())),
                    marks: marks.as_ref(),
                }
                .markup())
                @if let (Some(marks), Some(since)) = (&marks, &since)
                    && marks.gone.rows() > 0
                {
                    (Shown {
                        table: &marks.gone.head(MOST_ROWS),
                        rows: marks.gone.rows(),
                        caption: &texts::gone(since),
                        file: None,
                        marks: None,
                    }
                    .markup())
                }
            }
        }
    }

    /// Where the page comes from.
    fn origin(&self, rest: &[&StepOnPage]) -> Markup {
        html! {
            section aria-labelledby="sources" {
                h2 id="sources" { (texts::SOURCES) }
                div class="scroll" tabindex="0" role="group" aria-label=(texts::SOURCE_FILE) {
                    table class="files" {
                        thead {
                            tr {
                                th scope="col" { (texts::SOURCE_FILE) }
                                th scope="col" class="n" { (texts::SOURCE_SIZE) }
                                th scope="col" class="n" { (texts::SOURCE_ROWS) }
                                th scope="col" { (texts::SOURCE_SUM) }
                            }
                        }
                        tbody {
                            @for source in &self.sources.0 {
                                (file(source))
                            }
                        }
                    }
                }
                dl {
                    @if let Some(as_of) = self.as_of {
                        div { dt { (texts::AS_OF_DATE) } dd { (as_of) } }
                    }
                    @if let Some(since) = self.since {
                        div { dt { (texts::SINCE) } dd { (since) } }
                    }
                    div { dt { (texts::ZONE) } dd { (self.zone) } }
                    div { dt { (texts::PROGRAM) } dd { (PROGRAM) } }
                }
                (account(rest, texts::OTHER_STEPS))
                details {
                    summary { (texts::ROUTINE) }
                    pre tabindex="0" { code { (visible(&self.routine.replace('\t', "    "))) } }
                }
            }
        }
    }
}

/// The name and the version of the program.
const PROGRAM: &str = concat!("jembric ", env!("CARGO_PKG_VERSION"));

fn section_id(number: usize) -> String {
    format!("section-{}", number + 1)
}

/// The ledgers of some steps, folded.
fn account(steps: &[&StepOnPage], summary: &str) -> Markup {
    html! {
        @if !steps.is_empty() {
            details {
                summary { (summary) }
                @for step in steps {
                    (accounts::of_step(step))
                }
            }
        }
    }
}

fn file(source: &Source) -> Markup {
    let Source { name, bytes, rows, .. } = source;
    html! {
        tr {
            th scope="row" { (visible(name)) }
            td class="n" { @if let Some((length, _)) = bytes { (grouped(length)) } }
            td class="n" { @if let Some(rows) = rows { (grouped(rows)) } }
            td class="sum" {
                @match bytes {
                    Some((_, sum)) => code { (sum) },
                    None => (texts::NO_SUM),
                }
            }
        }
    }
}

/// The hash by which the content security policy allows a text.
fn hash(text: &str) -> String {
    format!("sha256-{}", BASE64_STANDARD.encode(Sha256::digest(text)))
}
