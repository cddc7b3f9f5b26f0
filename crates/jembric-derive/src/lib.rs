//! `#[derive(Settings)]`: generates everything that follows from the fields of an operation's
//! struct.
//!
//! The field with its doc comment is the only definition of a setting. The macro generates
//!
//! * a builder method of the same name, with the field's documentation,
//! * its entry in `SETTINGS`, with the doc comment's first paragraph as the help,
//! * its default, in `Default` and where settings are read from a file or the command line,
//! * the check of its range.
//!
//! ```text
//! #[derive(Settings)]
//! #[settings(name = "latest", does = "Keep the latest record of each entity",
//!     answers = "What does each entity's record say now?")]
//! pub struct Latest {
//!     /// The column of dates or moments.
//!     #[setting(column, required)]
//!     pub date: String,
//!     /// Keep the records of this many newest dates of each entity. The default is 1.
//!     #[setting(number, from = 1, default = 1)]
//!     pub newest: u32,
//! }
//! ```
//!
//! Settings that are not those of an operation have only a name.
//!
//! In `#[setting(…)]`:
//!
//! * `column`, `columns`, `name`, `yes`, `number`, `numbers`, `days`, `entities`, `formats`,
//!   `expression`: the kind of its values
//! * `one_of`, `text = "GRAIN"`, `texts = "DATE,…"`, `several = "NAME = EXPR"`, `list = "COL,…"`:
//!   the same, with a word for the help
//! * `required`: the operation needs it
//! * `default = EXPR`: its default, if that is not the default of its type
//! * `from = N`: the least number that it accepts
//! * `rename = "match"`: its name, if that is not the name of the field
//! * `plain`: no builder method, because a constructor sets it
//!
//! A last sentence `The default is X.` in the first paragraph becomes the setting's `default`.

mod expand;
mod parse;

use proc_macro::TokenStream;

/// Derives builder methods, `SETTINGS`, defaults, ranges and help from the fields of a struct.
#[proc_macro_derive(Settings, attributes(settings, setting))]
pub fn derive_settings(input: TokenStream) -> TokenStream {
    let input = syn::parse_macro_input!(input as syn::DeriveInput);
    let expanded = parse::Operation::parse(&input).map(|operation| expand::expand(&operation));
    expanded.unwrap_or_else(|error| error.into_compile_error()).into()
}

/// Derives the words for the values of an enum of unit variants: `EveryEvent` is `every-event`.
#[proc_macro_derive(Words)]
pub fn derive_words(input: TokenStream) -> TokenStream {
    let input = syn::parse_macro_input!(input as syn::DeriveInput);
    expand::words(&input).unwrap_or_else(|error| error.into_compile_error()).into()
}
